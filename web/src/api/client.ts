import createClient from "openapi-fetch";

import type { Recipe } from "./recipe";
import type { components, paths } from "./schema";

type Schemas = components["schemas"];
export type Problem = { code: string; message: string; where: string; remedy: string; also?: string[] };
export type ProjectRow = Schemas["ProjectRow"];
export type ShotRow = Schemas["ShotRow"];
export type ShotWhole = Schemas["ShotWhole"];
export type RevisionWhole = Schemas["RevisionWhole"];
export type RevisionRow = Schemas["RevisionRow"];
export type SourceRow = Schemas["SourceRow"];
export type SourceWhole = Schemas["SourceWhole"];
export type ChannelRow = Schemas["ChannelRow"];
/** An item as the server describes it, and the recipe that it is described by: a digest says nothing of a later one. */
export type Item = Schemas["Item"] & { of: Recipe };
export type OperationRow = Schemas["OperationRow"];
export type PortRow = Schemas["PortRow"];
export type Probed = Schemas["Probed"];
export type HistogramRow = Schemas["HistogramRow"];
export type DeliverableRow = Schemas["DeliverableRow"];
export type FormatRow = Schemas["FormatRow"];

/** A refusal of the server, or its absence, as one error. */
export class ApiError extends Error {
  constructor(
    readonly status: number,
    readonly problem: Problem,
  ) {
    super(problem.message);
  }
}

const UNREACHABLE: Problem = {
  code: "unreachable",
  message: "the server does not answer",
  where: "",
  remedy: "your work is kept here; check that it runs, then try again",
};

/** What was given up here, for a newer wish. */
const GIVEN_UP: Problem = { code: "cancelled", message: "was given up", where: "", remedy: "" };

export function csrf(): string {
  return /(?:^|; )csrftoken=([^;]+)/.exec(document.cookie)?.[1] ?? "";
}

/** Whether a response holds what was asked for: with 202 it only says why there is nothing yet. */
const answered = (response: Response) => response.ok && response.status !== 202;

async function refused(response: Response): Promise<ApiError> {
  try {
    return new ApiError(response.status, (await response.json()) as Problem);
  } catch {
    const message = `the server answered with status ${response.status}`;
    return new ApiError(response.status, { code: "http", message, where: "", remedy: "try again" });
  }
}

export const api = createClient<paths>({ baseUrl: "/" });
api.use({
  onRequest({ request }) {
    if (request.method !== "GET") request.headers.set("X-CSRFToken", csrf());
    return request;
  },
  async onResponse({ response }) {
    if (!answered(response)) throw await refused(response);
    return response;
  },
  onError({ error }) {
    return error instanceof ApiError ? error : new ApiError(0, UNREACHABLE);
  },
});

/** The data of an answer; errors were thrown before. */
export async function got<T>(answer: Promise<{ data?: T }>): Promise<T> {
  return (await answer).data as T;
}

/** An answer that is not JSON, all of it: it can break off, or be given up, until its last byte is here. */
export interface Bytes {
  headers: Headers;
  bytes: ArrayBuffer;
}

/** Throws ApiError, and nothing else. */
async function forBytes(url: string, init: RequestInit): Promise<Bytes> {
  const broken = () => new ApiError(0, init.signal?.aborted ? GIVEN_UP : UNREACHABLE);
  let response: Response;
  try {
    response = await fetch(url, init);
    if (answered(response)) return { headers: response.headers, bytes: await response.arrayBuffer() };
  } catch {
    throw broken();
  }
  const refusal = await refused(response);
  throw init.signal?.aborted ? broken() : refusal;
}

export const getForBytes = (url: string) => forBytes(url, {});

export const postForBytes = (url: string, body: unknown, signal?: AbortSignal) =>
  forBytes(url, {
    method: "POST",
    headers: { "Content-Type": "application/json", "X-CSRFToken": csrf() },
    body: JSON.stringify(body),
    ...(signal ? { signal } : {}),
  });

export function problemOf(error: unknown): Problem {
  if (error instanceof ApiError) return error.problem;
  const message = error instanceof Error ? error.message : String(error);
  return { code: "unknown", message, where: "", remedy: "try again" };
}
