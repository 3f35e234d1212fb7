import { describe, expect, it } from "vitest";

import {
  type PathPoint,
  bent,
  curves,
  inside,
  moved,
  nearest,
  outline,
  split,
  turned,
} from "@/benches/mattes/paths";
import { pathsOf, setPaths } from "@/benches/mattes/useDrawing";

const SQUARE: PathPoint[] = [
  [10, 10],
  [50, 10],
  [50, 40],
  [10, 40],
];
/** A circle of radius 20 round (30, 30): four curves by the usual constant. */
const K = 20 * 0.5522847498;
const CIRCLE: PathPoint[] = [
  [30, 10, -K, 0, K, 0],
  [50, 30, 0, -K, 0, K],
  [30, 50, K, 0, -K, 0],
  [10, 30, 0, K, 0, -K],
];

/** The place on a curve by Bernstein's form, with none of the code under test. */
function place(curve: [number, number][], t: number): [number, number] {
  const weights = [(1 - t) ** 3, 3 * t * (1 - t) ** 2, 3 * t * t * (1 - t), t ** 3];
  return [0, 1].map((axis) => curve.reduce((sum, p, i) => sum + p[axis]! * weights[i]!, 0)) as [
    number,
    number,
  ];
}

describe("points", () => {
  it("turn and grow about the middle of those that are chosen", () => {
    const square = [
      [0, 0],
      [4, 0, 0, 0, 1, 0],
      [4, 4],
      [0, 4],
    ];
    const quarter = turned(square, [], 90, 1);
    expect(quarter.map((point) => point.slice(0, 2))).toEqual([
      [4, 0],
      [4, 4],
      [0, 4],
      [0, 0],
    ]);
    expect(quarter[1]!.slice(4)).toEqual([0, 1]);
    expect(turned(square, [0, 3], 0, 2)).toEqual([[0, -2], square[1], square[2], [0, 6]]);
  });

  it("are those of the path, seen where what it was followed to lies, and written back as they were drawn", () => {
    const movement = {
      from: 1,
      matrices: { "1": [1, 0, 0, 0, 1, 0, 0, 0, 1], "3": [2, 0, 10, 0, 2, 0, 0, 0, 1] },
    };
    const step = {
      name: "s",
      op: "shape",
      set: { paths: [{ points: SQUARE, movement }, { points: SQUARE }] },
    };
    const recipe = { nexal: 1 as const, steps: [step], at: 3 };
    const [seen, still] = pathsOf(recipe, "s");
    expect(seen!.points![0]).toEqual([30, 20]);
    expect(still!.points).toBe(SQUARE);
    expect(setPaths(recipe, "s", pathsOf(recipe, "s")).steps![0]!.set).toEqual(step.set);
    const dragged = pathsOf(recipe, "s").map((path) => ({
      ...path,
      points: path.points!.map((p) => moved(p, 4, 2)),
    }));
    const after = setPaths(recipe, "s", dragged).steps![0]!.set!.paths as { points: number[][] }[];
    expect(after[0]!.points[0]).toEqual([12, 11]);
    expect(after[1]!.points[0]).toEqual([14, 12]);
  });

  it("move with their tangents and their own feather", () => {
    expect(moved([1, 2, 3, 4, 5, 6, 7, 8], 0.004, 10)).toEqual([1, 12, 3, 4, 5, 6, 7, 8]);
    expect(bent([1, 2], "out", 3, 4, true)).toEqual([1, 2, -3, -4, 3, 4]);
    expect(bent([1, 2, 9, 9, 8, 8, 1, 1], "in", 3, 4, false)).toEqual([1, 2, 3, 4, 8, 8, 1, 1]);
  });
});

describe("curves", () => {
  it("close the path", () => {
    expect(curves(SQUARE)).toHaveLength(4);
    expect(curves(SQUARE)[3]![3]).toEqual([10, 10]);
  });

  it("keep their course when a point is put on them", () => {
    for (const [index, t] of [
      [0, 0.5],
      [1, 0.2],
      [3, 0.75],
    ] as const) {
      const before = curves(CIRCLE)[index]!;
      const after = curves(split(CIRCLE, index, t));
      expect(after).toHaveLength(5);
      for (const part of [0.1, 0.4, 0.8]) {
        const first = place(after[index]!, part);
        const second = place(after[index + 1]!, part);
        for (const [got, wanted] of [
          [first, place(before, part * t)],
          [second, place(before, t + part * (1 - t))],
        ] as const)
          expect(Math.hypot(got[0] - wanted[0], got[1] - wanted[1])).toBeLessThan(0.02);
      }
    }
  });

  it("tell what is nearest, and what lies inside", () => {
    expect(nearest(SQUARE, 30, 12)).toMatchObject({ index: 0, distance: 2 });
    expect(nearest(CIRCLE, 30, 60).distance).toBeCloseTo(10, 1);
    for (const [x, y] of [
      [30, 30],
      [44, 30],
      [43, 42],
      [46, 46],
      [9, 30],
    ] as const)
      expect(inside(CIRCLE, x, y), `${x} ${y}`).toBe(Math.hypot(x - 30, y - 30) < 20);
  });

  it("are drawn open while they are made", () => {
    const same = (x: number, y: number): [number, number] => [x, y];
    expect(outline([], same, true)).toBe("");
    expect(outline(SQUARE, same, false).match(/C/g)).toHaveLength(3);
    expect(outline(SQUARE, same, true).endsWith("Z")).toBe(true);
  });
});
