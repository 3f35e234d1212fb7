import { describe, expect, it } from "vitest";

import { asFrames, grouped, newestOf, numberIn, runsOf, worded } from "@/shot/sequences";
import { barsOf, following, ticks, wholeRange, workRange } from "@/time/range";

const named = (...names: string[]) => names.map((name) => new File(["x"], name));
const told = (...names: string[]) => {
  const { sequences, single } = grouped(named(...names));
  return {
    sequences: sequences.map(({ pattern, files }) => [pattern, [...files.keys()]]),
    single: single.map((file) => file.name),
  };
};

describe("files dropped together", () => {
  it("tells two sequences apart by name, and leaves single files alone", () => {
    expect(
      told("moth.0002.exr", "leaf_10.png", "moth.0001.exr", "notes.json", "leaf_11.png", "one.0007.exr"),
    ).toEqual({
      sequences: [
        ["moth.%04d.exr", [1, 2]],
        ["leaf_%02d.png", [10, 11]],
      ],
      single: ["notes.json", "one.0007.exr"],
    });
  });

  it("keeps numbers with and without padding, and two extensions, apart", () => {
    expect(told("a.8.exr", "a.9.exr", "a.10.exr").sequences).toEqual([["a.%d.exr", [8, 9, 10]]]);
    expect(told("a.0998.exr", "a.0999.exr", "a.10000.exr").sequences).toEqual([
      ["a.%04d.exr", [998, 999, 10000]],
    ]);
    expect(told("a.1.exr", "a.2.exr", "a.0001.exr", "a.0002.exr").sequences).toEqual([
      ["a.%d.exr", [1, 2]],
      ["a.%04d.exr", [1, 2]],
    ]);
    expect(
      told("a.01.exr", "a.02.exr", "a.01.png", "a.02.png").sequences.map(([pattern]) => pattern),
    ).toEqual(["a.%02d.exr", "a.%02d.png"]);
    expect(told("shot2_v3.0001.exr", "shot2_v3.0002.exr").sequences[0]![0]).toBe("shot2_v3.%04d.exr");
    expect(told("clip.mp4", "tea.jpeg").single).toEqual(["clip.mp4", "tea.jpeg"]);
  });

  it("tells numbers as ranges", () => {
    expect(worded(runsOf([1, 2, 3, 7, 9, 10]))).toBe("1–3, 7, 9–10");
  });
});

describe("time", () => {
  const recipe = {
    nexal: 1 as const,
    sources: { moth: { files: "m.%d.exr", offset: 10, first: 2 }, leaf: { files: "l.png" } },
  };
  const rows = [
    {
      files: "m.%d.exr",
      frames: {
        numbers: [
          [1, 4],
          [7, 9],
        ],
        count: 7,
        ready: 7,
        failed: [],
      },
    },
  ] as never;

  it("knows where sources lie and what is missing", () => {
    const bars = barsOf(recipe, rows);
    expect(bars).toEqual([{ name: "moth", range: [12, 19], gaps: [[15, 16]], rate: null }]);
    expect(wholeRange(recipe, bars, null)).toEqual([12, 19]);
    expect(wholeRange(recipe, bars, [1, 24])).toEqual([1, 24]);
    expect(wholeRange({ nexal: 1 }, [], null)).toBeNull();
    // What a person set holds; else the sources, also where something moves beyond them; else what moves.
    expect(workRange([5, 30], bars, null)).toEqual([12, 19]);
    expect(workRange([12, 19], bars, [13, 15])).toEqual([13, 15]);
    expect(workRange([5, 30], [], null)).toEqual([5, 30]);
    expect(workRange(null, [], null)).toEqual([1, 1]);
  });

  it("takes a dash that stands by itself for a sign", () => {
    expect(told("m.-003.exr", "m.-002.exr", "m.0000.exr", "m.0008.exr").sequences).toEqual([
      ["m.%04d.exr", [-3, -2, 0, 8]],
    ]);
    expect(told("m_-3.png", "m_-2.png", "m_0.png", "m_8.png", "m_12.png").sequences).toEqual([
      ["m_%d.png", [-3, -2, 0, 8, 12]],
    ]);
    expect(told("m-1.png", "m-2.png").sequences).toEqual([["m-%d.png", [1, 2]]]);
    expect(numberIn("m.%04d.exr", "m.-003.exr")).toBe(-3);
    expect(numberIn("m.%04d.exr", "m.-3.exr")).toBeNull();
  });

  it("knows a frame of a source by its name", () => {
    expect(numberIn("moth.%04d.exr", "moth.0007.exr")).toBe(7);
    expect(numberIn("moth.%04d.exr", "moth.0007.EXR")).toBe(7);
    expect(numberIn("moth.%04d.exr", "moth.12345.exr")).toBe(12345);
    expect(numberIn("moth_%d.png", "moth_12.png")).toBe(12);
    for (const other of ["moth.007.exr", "moth.00007.exr", "leaf.0007.exr", "moth.0007.png", "moth.exr"])
      expect(numberIn("moth.%04d.exr", other)).toBeNull();
    expect(numberIn("moth.exr", "moth.0007.exr")).toBeNull();
    const { sequence, others } = asFrames(
      "moth.%04d.exr",
      named("b.0009.exr", "a_2.exr", "still.exr", "c.2.exr"),
    );
    expect([...sequence.files].map(([number, file]) => [number, file.name])).toEqual([
      [2, "a_2.exr"],
      [9, "b.0009.exr"],
    ]);
    expect(others.map((file) => file.name)).toEqual(["still.exr", "c.2.exr"]);
  });

  it("reads the newest frames of what comes in", () => {
    expect(newestOf({ files: "a.exr", frames: null })).toEqual({ files: "a.exr" });
    expect(newestOf({ files: "a.%d.exr", frames: { version: 1 } as never })).toEqual({ files: "a.%d.exr" });
    expect(newestOf({ files: "a.%d.exr", frames: { version: 3 } as never })).toEqual({
      files: "a.%d.exr",
      version: 3,
    });
  });

  it("has no gap between the frames of a video", () => {
    const clip = { nexal: 1, sources: { clip: { files: "clip.mov" } } } as never;
    const frames = {
      numbers: [
        [1, 2],
        [5, 6],
      ],
      count: 4,
      ready: 4,
      failed: [],
      rate: 24,
    };
    expect(barsOf(clip, [{ files: "clip.mov", frames }] as never)).toEqual([
      { name: "clip", range: [1, 6], gaps: [], rate: 24 },
    ]);
  });

  it("goes on, round, or ends", () => {
    expect(following(3, [1, 4], true)).toBe(4);
    expect(following(4, [1, 4], true)).toBe(1);
    expect(following(4, [1, 4], false)).toBeNull();
    expect(following(9, [1, 4], true)).toBe(1);
  });

  it("labels stay apart", () => {
    for (const last of [1, 10, 48, 240, 10_000]) {
      const labels = ticks([1, last], 600).filter((tick) => tick.label);
      const gaps = labels.slice(1).map((tick, index) => ((tick.frame - labels[index]!.frame) / last) * 600);
      expect(Math.min(Infinity, ...gaps)).toBeGreaterThan(22);
    }
  });
});
