import { beforeEach, describe, expect, it, vi } from "vitest";

const fetched: number[] = [];
const closed: number[] = [];
let failing = new Set<number>();
vi.mock("@/stage/painter", () => ({
  paintIn: async (_: string, job: { planes: { frame: number } }) => ({
    width: 100,
    height: 100,
    close: () => closed.push(job.planes.frame),
  }),
}));
vi.mock("@/stage/planes", () => ({
  fetchPlanes: async (_: number, ask: { address: string }) => {
    const frame = Number(ask.address);
    fetched.push(frame);
    if (failing.has(frame)) throw new Error("not computed");
    return { frame, samples: [new Uint16Array(10)] };
  },
}));

const { Reel } = await import("@/time/reel");
const { useTime } = await import("@/time/timeState");

const PICTURE = 100 * 100 * 4;
const ask = {
  shot: 1,
  picture: (frame: number) => ({ recipe: { nexal: 1 as const }, address: String(frame), scale: 1 }),
  matte: null,
  kind: undefined,
  look: { exposure: 0, backing: { kind: "none" as const } },
};
const settle = () => new Promise((resolve) => setTimeout(resolve, 0));

async function filled(reel: InstanceType<typeof Reel>, frame: number, range: [number, number], times = 40) {
  for (let turn = 0; turn < times; turn++) {
    reel.fill(frame, range, true);
    await settle();
  }
}

describe("frames held for playing", () => {
  beforeEach(() => {
    fetched.length = closed.length = 0;
    failing = new Set();
  });

  it("fetches what comes next first, round the end, each once", async () => {
    const reel = new Reel(ask);
    await filled(reel, 6, [1, 8]);
    expect(fetched).toEqual([6, 7, 8, 1, 2, 3, 4, 5]);
    expect([...useTime.getState().ready].sort()).toEqual([1, 2, 3, 4, 5, 6, 7, 8]);
    for (let frame = 1; frame <= 8; frame++) expect(reel.at(frame)?.frame).toBe(frame);
  });

  it("keeps within its bound of bytes, and drops what is wanted last", async () => {
    const reel = new Reel(ask, 10 * PICTURE);
    for (const frame of [1, 5, 12, 30]) {
      await filled(reel, frame, [1, 48]);
      expect(useTime.getState().ready.size).toBeLessThanOrEqual(10);
      expect(reel.at(frame)?.frame).toBe(frame);
      expect(reel.at(frame + 1)?.frame).toBe(frame + 1);
    }
    expect(reel.at(1)).toBeUndefined();
  });

  it("passes over what cannot be had, until it is asked for again", async () => {
    failing = new Set([2]);
    const reel = new Reel(ask);
    await filled(reel, 1, [1, 3]);
    expect([reel.lost(1), reel.lost(2)]).toEqual([false, true]);
    expect(fetched.filter((frame) => frame === 2)).toHaveLength(1);
    failing = new Set();
    reel.again();
    await filled(reel, 1, [1, 3]);
    expect(reel.at(2)?.frame).toBe(2);
  });

  it("lets go of every picture when it is closed", async () => {
    // What others dropped is closed a moment later.
    await new Promise((resolve) => setTimeout(resolve, 260));
    closed.length = 0;
    const reel = new Reel(ask);
    await filled(reel, 1, [1, 4]);
    reel.close();
    expect(useTime.getState().ready.size).toBe(0);
    await new Promise((resolve) => setTimeout(resolve, 260));
    expect([...closed].sort()).toEqual([1, 2, 3, 4]);
  });
});
