import { afterEach, describe, expect, it, vi } from "vitest";

import type { Planes } from "@/stage/painting";

/** A worker that answers as it is told to. */
class FakeWorker {
  static made: FakeWorker[] = [];
  onmessage: ((event: { data: unknown }) => void) | null = null;
  onerror: (() => void) | null = null;
  asked: { id: number }[] = [];
  constructor() {
    FakeWorker.made.push(this);
  }
  postMessage(message: { id: number }): void {
    this.asked.push(message);
  }
  terminate = vi.fn();
}

const job = { kind: "removed" as const, planes: {} as Planes };

afterEach(() => vi.unstubAllGlobals());

describe("a painter", () => {
  it("settles with the picture, with its fault, and when it is gone itself", async () => {
    vi.stubGlobal("Worker", FakeWorker);
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
