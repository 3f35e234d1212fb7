import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";

import type { Recipe } from "@/api/recipe";
import type { Planes } from "@/stage/painting";

import { until } from "./patience";

/** A worker that answers as it is told to. */
class FakeWorker {
  static made: FakeWorker[] = [];
  onmessage: ((event: { data: unknown }) => void) | null = null;
  onerror: (() => void) | null = null;
  asked: { id: number; wanted?: { url: string; init: { body: string } }; givenUp?: true }[] = [];
  constructor() {
    FakeWorker.made.push(this);
  }
  postMessage(message: { id: number }): void {
    this.asked.push(message);
  }
  terminate = vi.fn();
  /** Answer the question that was asked last. */
  answer(answer: object): void {
    this.onmessage!({ data: { id: this.asked.at(-1)!.id, ...answer } });
  }
}

const job = { kind: "removed" as const, planes: {} as Planes };
const PROBLEM = { code: "recipe", message: "there is no such step", where: "", remedy: "" };
const ABOUT = { channels: ["Y"], region: [0, 0, 2, 1] };
const look = { exposure: 0, backing: { kind: "none" as const } };

beforeEach(() => {
  vi.resetModules();
  FakeWorker.made = [];
  vi.stubGlobal("Worker", FakeWorker);
  vi.stubGlobal("document", { cookie: "csrftoken=fern" });
});
afterEach(() => vi.unstubAllGlobals());

describe("a painter", () => {
  it("settles with the picture, with its fault, and when it is gone itself", async () => {
    const { paintIn } = await import("@/stage/painter");
    const [first, second] = [paintIn("stage", job), paintIn("stage", job)];
    const worker = FakeWorker.made[0]!;
    const bitmap = {};
    worker.onmessage!({ data: { id: worker.asked[1]!.id, fault: "no such plane" } });
    worker.onmessage!({ data: { id: worker.asked[0]!.id, bitmap } });
    expect(await first).toBe(bitmap);
    await expect(second).rejects.toThrow("no such plane");
    const third = paintIn("stage", job);
    worker.onerror!();
    await expect(third).rejects.toThrow("stopped");
    expect(worker.terminate).toHaveBeenCalled();
    void paintIn("stage", job);
    expect(FakeWorker.made[1]!.asked).toHaveLength(1);
  });
});

describe("planes that come painted", () => {
  const begun = async (signal = new AbortController().signal) => {
    const [{ fetchSeen }, { paintedAs, dropPainted }] = [
      await import("@/stage/planes"),
      await import("@/stage/painter"),
    ];
    const ask = { recipe: { nexal: 1 } as unknown as Recipe, address: "core", scale: 2 };
    const planes = fetchSeen(7, ask, { look, key: "plain" }, signal);
    planes.catch(() => undefined);
    return { planes, paintedAs, dropPainted, worker: FakeWorker.made[0]! };
  };

  it("are known by how they look for as long as their picture is there", async () => {
    const { planes, paintedAs, dropPainted, worker } = await begun();
    expect(worker.asked[0]!.wanted).toMatchObject({ url: "/api/shots/7/view", look });
    expect(JSON.parse(worker.asked[0]!.wanted!.init.body)).toMatchObject({ address: "core", scale: 2 });
    const bitmap = { width: 8, close: () => (bitmap.width = 0) };
    worker.answer({ fetched: { about: ABOUT, bytes: new Uint16Array([1, 2]).buffer, bitmap } });
    const here = await planes;
    expect(here).toMatchObject(ABOUT);
    expect([...here.samples[0]!]).toEqual([1, 2]);
    expect(paintedAs(here, "plain")).toBe(bitmap);
    expect(paintedAs(here, "brighter")).toBeNull();
    dropPainted(here);
    expect(bitmap.width).toBe(0);
    expect(paintedAs(here, "plain")).toBeNull();
  });

  it("are there without a picture where they could not be painted", async () => {
    const { planes, paintedAs, worker } = await begun();
    worker.answer({ fetched: { about: ABOUT, bytes: new ArrayBuffer(4), bitmap: null } });
    expect(paintedAs(await planes, "plain")).toBeNull();
  });

  it("are refused with the server's own words", async () => {
    const { planes, worker } = await begun();
    worker.answer({ refused: { status: 422, problem: PROBLEM } });
    await expect(planes).rejects.toMatchObject({ status: 422, problem: PROBLEM });
  });

  it("given up, are told so at once, and what comes all the same gives its memory back", async () => {
    const abort = new AbortController();
    const { planes, worker } = await begun(abort.signal);
    abort.abort();
    await expect(planes).rejects.toMatchObject({ problem: { code: "cancelled" } });
    expect(worker.asked.map(({ givenUp }) => givenUp)).toEqual([undefined, true]);
    const bitmap = { close: vi.fn() };
    worker.answer({ fetched: { about: ABOUT, bytes: new ArrayBuffer(4), bitmap } });
    expect(bitmap.close).toHaveBeenCalledOnce();
    // Nothing is asked for that was given up before.
    const late = await begun(abort.signal);
    await expect(late.planes).rejects.toMatchObject({ problem: { code: "cancelled" } });
    expect(worker.asked).toHaveLength(2);
  });

  it("are asked for by the page itself where the worker fails", async () => {
    const fetch = vi.fn(() =>
      Promise.resolve(
        new Response(new Uint16Array([1, 2]), {
          headers: { "X-Nexal-View": JSON.stringify(ABOUT) },
        }),
      ),
    );
    vi.stubGlobal("fetch", fetch);
    const { planes, worker } = await begun();
    worker.onerror!();
    expect([...(await planes).samples[0]!]).toEqual([1, 2]);
    expect(fetch).toHaveBeenCalledOnce();
  });
});

describe("the painter's worker", () => {
  const about = {
    channels: ["Y"],
    data: [true],
    alpha: "none",
    region: [0, 0, 2, 1],
    ranges: [null],
    finished: false,
  };
  const wanted = { url: "/api/shots/7/view", init: { method: "POST", headers: {}, body: "{}" }, look };

  /** What it answers to questions, the server's answers being made by `fetch`. */
  const started = async (
    fetch: (url: string, init: RequestInit) => Promise<Response>,
    bitmap = () => Promise.resolve({ painted: true }),
    canvas?: unknown,
  ) => {
    const answers: { id: number; fetched?: { bytes: ArrayBuffer; bitmap: unknown }; refused?: unknown }[] =
      [];
    const own: { onmessage?: (event: { data: object }) => void; postMessage: unknown } = {
      postMessage: (answer: { id: number }) => answers.push(answer),
    };
    vi.stubGlobal("self", own);
    vi.stubGlobal("fetch", fetch);
    vi.stubGlobal("ImageData", vi.fn());
    vi.stubGlobal("createImageBitmap", bitmap);
    vi.stubGlobal("OffscreenCanvas", canvas);
    await import("@/stage/painter.worker");
    return { answers, ask: (data: object) => own.onmessage!({ data }) };
  };
  const planes = () =>
    Promise.resolve(
      new Response(new Uint16Array([0, 0x3c00]), { headers: { "X-Nexal-View": JSON.stringify(about) } }),
    );

  it("answers with planes and their picture, also where that could not be made", async () => {
    for (const [bitmap, picture] of [
      [() => Promise.resolve({ painted: true }), { painted: true }],
      [() => Promise.reject(new Error("no memory")), null],
    ] as const) {
      vi.resetModules();
      const { answers, ask } = await started(planes, bitmap as never);
      ask({ id: 3, wanted });
      await until(() => expect(answers).toHaveLength(1));
      expect(answers[0]).toMatchObject({ id: 3, fetched: { bitmap: picture } });
      expect([...new Uint16Array(answers[0]!.fetched!.bytes)]).toEqual([0, 0x3c00]);
    }
  });

  it("lays pictures out on one canvas where there is one, and takes no memory anew for them", async () => {
    const laid: { data: Uint8ClampedArray; width: number }[] = [];
    class Canvas {
      constructor(
        public width: number,
        public height: number,
      ) {}
      getContext = () => ({ putImageData: (image: (typeof laid)[0]) => laid.push(image) });
    }
    const taken = (of: Canvas) => Promise.resolve({ of: [of.width, of.height], painted: laid.length });
    const { answers, ask } = await started(planes, taken as never, Canvas);
    vi.stubGlobal(
      "ImageData",
      class {
        constructor(
          public data: Uint8ClampedArray,
          public width: number,
        ) {}
      },
    );
    for (const id of [1, 2]) ask({ id, wanted });
    await until(() => expect(answers).toHaveLength(2));
    expect(answers.map(({ fetched }) => fetched!.bitmap)).toEqual([
      { of: [2, 1], painted: 1 },
      { of: [2, 1], painted: 2 },
    ]);
    expect(laid[0]!.data.buffer).toBe(laid[1]!.data.buffer);
  });

  it("tells what the server refuses, and what was given up on its way", async () => {
    const { answers, ask } = await started((url, { signal }) =>
      url.includes("slow")
        ? new Promise((_, reject) => signal!.addEventListener("abort", () => reject(new Error("aborted"))))
        : Promise.resolve(new Response(JSON.stringify(PROBLEM), { status: 422 })),
    );
    ask({ id: 1, wanted });
    ask({ id: 2, wanted: { ...wanted, url: "/slow" } });
    ask({ id: 2, givenUp: true });
    await until(() => expect(answers).toHaveLength(2));
    expect(answers).toContainEqual({ id: 1, refused: { status: 422, problem: PROBLEM } });
    expect(answers).toContainEqual({
      id: 2,
      refused: { status: 0, problem: expect.objectContaining({ code: "cancelled" }) as unknown },
    });
  });
});
