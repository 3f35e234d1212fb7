import { afterEach, describe, expect, it, vi } from "vitest";

import { problemOf } from "@/api/client";
import type { Recipe } from "@/api/recipe";
import { smallPlanes } from "@/stage/smallPictures";

const recipe = (): Recipe => ({ nexal: 1, sources: {}, steps: [] });
const still = () => new AbortController().signal;

/** A body as the server packs it: every address has a plane of 2 x 1 that holds its last digit. */
function packed(addresses: string[], most: number): ArrayBuffer {
  const view = { channels: ["Y"], region: [0, 0, 2, 1] };
  const rows = addresses.map((address, index) =>
    address.startsWith("bad")
      ? { address, problem: { code: "recipe", message: "no", where: "", remedy: "" } }
      : index >= most
        ? { address, later: true }
        : { address, view, bytes: 4 },
  );
  let told = JSON.stringify(rows);
  if (told.length % 2) told += " ";
  const planes = addresses
    .filter((address, index) => index < most && !address.startsWith("bad"))
    .flatMap((address) => [Number(address.slice(-1)), 7]);
  const bytes = new Uint8Array(4 + told.length + planes.length * 2);
  new DataView(bytes.buffer).setUint32(0, told.length, true);
  bytes.set(new TextEncoder().encode(told), 4);
  bytes.set(new Uint8Array(new Uint16Array(planes).buffer), 4 + told.length);
  return bytes.buffer;
}

/** A server that answers so many pictures at a time; what it was asked for. */
function server(most = Infinity) {
  const asked: string[][] = [];
  vi.stubGlobal("document", { cookie: "" });
  vi.stubGlobal("fetch", (_: string, { body }: { body: string }) => {
    const { addresses } = JSON.parse(body) as { addresses: string[] };
    asked.push(addresses);
    return Promise.resolve(new Response(packed(addresses, most)));
  });
  return asked;
}

describe("small pictures", () => {
  afterEach(() => void vi.unstubAllGlobals());

  it("that are wanted together are one request, each with its own samples", async () => {
    const asked = server();
    const of = recipe();
    const planes = await Promise.all(["a1", "a2", "a3"].map((name) => smallPlanes(1, of, name, still())));
    expect(asked).toEqual([["a1", "a2", "a3"]]);
    expect(planes.map(({ samples }) => [...samples[0]!])).toEqual([
      [1, 7],
      [2, 7],
      [3, 7],
    ]);
  });

  it("that did not come within the moment are asked for again until they are there", async () => {
    const asked = server(2);
    const of = recipe();
    const planes = await Promise.all(
      ["a1", "a2", "a3", "a4", "a5"].map((name) => smallPlanes(1, of, name, still())),
    );
    expect(asked.map((names) => names.length)).toEqual([5, 3, 1]);
    expect(planes.map(({ samples }) => samples[0]![0])).toEqual([1, 2, 3, 4, 5]);
  });

  it("that fail do so alone", async () => {
    server();
    const of = recipe();
    const [good, bad] = await Promise.allSettled([
      smallPlanes(1, of, "a1", still()),
      smallPlanes(1, of, "bad", still()),
    ]);
    expect(good.status).toBe("fulfilled");
    expect(bad.status === "rejected" && problemOf(bad.reason).code).toBe("recipe");
  });

  it("of two recipes or two shots do not wait for each other", async () => {
    const asked = server();
    const of = recipe();
    await Promise.all([
      smallPlanes(1, of, "a1", still()),
      smallPlanes(2, of, "a2", still()),
      smallPlanes(1, recipe(), "a3", still()),
    ]);
    expect(asked).toEqual([["a1"], ["a2"], ["a3"]]);
  });

  it("that nobody wants any more are not asked for; what came into sight last comes first", async () => {
    const asked = server();
    const of = recipe();
    const gone = new AbortController();
    void smallPlanes(1, of, "a9", gone.signal).catch(() => undefined);
    gone.abort();
    const names = Array.from({ length: 70 }, (_, index) => `b${index}`);
    await Promise.all(names.map((name) => smallPlanes(1, of, name, still())));
    expect(asked[0]).toEqual(names.slice(-64));
    expect(asked[1]).toEqual(names.slice(0, 6));
  });

  it("that an answer leaves out fail, instead of being asked for again for ever", async () => {
    vi.stubGlobal("document", { cookie: "" });
    const asked = vi.fn(() => Promise.resolve(new Response(packed(["a1"], Infinity))));
    vi.stubGlobal("fetch", asked);
    const of = recipe();
    const [, left] = await Promise.allSettled(["a1", "a2"].map((name) => smallPlanes(1, of, name, still())));
    expect(left!.status).toBe("rejected");
    expect(asked).toHaveBeenCalledTimes(1);
  });

  it("whose request fails all fail, and can be asked for again", async () => {
    vi.stubGlobal("document", { cookie: "" });
    vi.stubGlobal("fetch", () => Promise.reject(new TypeError("network error")));
    const of = recipe();
    const settled = await Promise.allSettled(["a1", "a2"].map((name) => smallPlanes(1, of, name, still())));
    expect(settled.map((one) => one.status === "rejected" && problemOf(one.reason).code)).toEqual([
      "unreachable",
      "unreachable",
    ]);
    server();
    expect((await smallPlanes(1, of, "a4", still())).samples[0]![0]).toBe(4);
  });
});
