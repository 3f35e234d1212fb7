import createClient from "openapi-fetch";

import { ApiError, type Problem, UNREACHABLE, answered, forBytes, refused } from "./bytes";
import type { Recipe } from "./recipe";
import type { components, paths } from "./schema";

export { ApiError, type Bytes, type Problem } from "./bytes";

type Schemas = components["schemas"];
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

export function csrf(): string {
  return /(?:^|; )csrftoken=([^;]+)/.exec(document.cookie)?.[1] ?? "";
}

/** Tells this page from another one of the same session: each looks at the same things for itself. */
export const PAGE = Math.random().toString(36).slice(2);

export const api = createClient<paths>({ baseUrl: "/" });
api.use({
  onRequest({ request }) {
    request.headers.set("X-Nexal-Page", PAGE);
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

export const getForBytes = (url: string) => forBytes(url, {});

/** How JSON is sent. */
export const posted = (body: unknown) => ({
  method: "POST",
  headers: { "Content-Type": "application/json", "X-CSRFToken": csrf(), "X-Nexal-Page": PAGE },
  body: JSON.stringify(body),
});

export const postForBytes = (url: string, body: unknown, signal?: AbortSignal) =>
  forBytes(url, { ...posted(body), ...(signal ? { signal } : {}) });

export function problemOf(error: unknown): Problem {
  if (error instanceof ApiError) return error.problem;
  const message = error instanceof Error ? error.message : String(error);
  return { code: "unknown", message, where: "", remedy: "try again" };
}
