import { afterEach, describe, expect, it, vi } from "vitest";

import { postForBytes, problemOf } from "@/api/client";

/** An answer whose body breaks off by an error. */
const breaking = (error: Error, status = 200) =>
  new Response(
    new ReadableStream({
      start: (body) => {
        body.enqueue(new Uint8Array(8));
      },
      pull: (body) => body.error(error),
    }),
    { status },
  );
const codeOf = (answer: Response | Error, signal?: AbortSignal) => {
  vi.stubGlobal("document", { cookie: "" });
  vi.stubGlobal("fetch", () => (answer instanceof Error ? Promise.reject(answer) : Promise.resolve(answer)));
  return postForBytes("/api/shots/1/view", {}, signal).then(
    () => "",
    (error: unknown) => problemOf(error).code,
  );
};

describe("answers in bytes", () => {
  afterEach(() => void vi.unstubAllGlobals());

  it("are given up at any moment without a fault to show", async () => {
    const aborted = AbortSignal.abort();
    const error = new DOMException("signal is aborted without reason", "AbortError");
    expect(await codeOf(error, aborted)).toBe("cancelled");
    expect(await codeOf(breaking(error), aborted)).toBe("cancelled");
    expect(await codeOf(breaking(error, 422), aborted)).toBe("cancelled");
  });

  it("that break off say that the server is not there", async () => {
    expect(await codeOf(new TypeError("network error"))).toBe("unreachable");
    expect(await codeOf(breaking(new TypeError("network error")))).toBe("unreachable");
    expect(await codeOf(new Response(JSON.stringify({ code: "recipe" }), { status: 422 }))).toBe("recipe");
  });
});
