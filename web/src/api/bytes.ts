/** Asking for what is not JSON, in a page or in a worker: nothing here needs a document. */

export type Problem = { code: string; message: string; where: string; remedy: string; also?: string[] };

/** A refusal of the server, or its absence, as one error. */
export class ApiError extends Error {
  constructor(
    readonly status: number,
    readonly problem: Problem,
  ) {
    super(problem.message);
  }
}

export const UNREACHABLE: Problem = {
  code: "unreachable",
  message: "the server does not answer",
  where: "",
  remedy: "your work is kept here; check that it runs, then try again",
};

/** What was given up here, for a newer wish. */
export const GIVEN_UP: Problem = { code: "cancelled", message: "was given up", where: "", remedy: "" };

/** Whether a response holds what was asked for: with 202 it only says why there is nothing yet. */
export const answered = (response: Response) => response.ok && response.status !== 202;

export async function refused(response: Response): Promise<ApiError> {
  try {
    return new ApiError(response.status, (await response.json()) as Problem);
  } catch {
    const message = `the server answered with status ${response.status}`;
    return new ApiError(response.status, { code: "http", message, where: "", remedy: "try again" });
  }
}

/** An answer that is not JSON, all of it: it can break off, or be given up, until its last byte is here. */
export interface Bytes {
  headers: Headers;
  bytes: ArrayBuffer;
}

/** Throws ApiError, and nothing else. */
export async function forBytes(url: string, init: RequestInit): Promise<Bytes> {
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
