import { describe, expect, it } from "vitest";

import { cornersOf, joined } from "@/time/following";
import { apply, inverse, matrixAt, movedPoints } from "@/time/movement";

const shift = (x: number, y: number) => [1, 0, x, 0, 1, y, 0, 0, 1];

describe("movements", () => {
  it("are interpolated after their last element is one, and hold beyond their ends", () => {
    const movement = { from: 1, matrices: { "1": shift(0, 0), "3": shift(8, 4).map((value) => value * 2) } };
    expect(matrixAt(movement, 2)).toEqual(shift(4, 2));
    expect(matrixAt(movement, -5)).toEqual(shift(0, 0));
    expect(matrixAt(movement, 50)).toEqual(shift(8, 4));
  });

  it("turn back, with the ends of tangents", () => {
    const matrix = [1.1, 0.2, 5, -0.1, 0.9, 3, 0.001, 0.002, 1];
    const [x, y] = apply(inverse(matrix), ...apply(matrix, 20, 30));
    expect([x, y]).toEqual([expect.closeTo(20), expect.closeTo(30)]);
    const points = [
      [10, 10, -2, 0, 2, 0, 1, 1],
      [30, 12],
    ];
    const back = movedPoints(movedPoints(points, matrix), inverse(matrix));
    back.forEach((point, index) =>
      point.forEach((value, at) => expect(value).toBeCloseTo(points[index]![at]!)),
    );
  });

  it("go on from a frame: what was before it stays, what comes after is seen from the kept points", () => {
    const before = {
      from: 1,
      matrices: { "1": shift(0, 0), "5": shift(10, 0), "9": shift(99, 0) },
      sure: { "9": 0.4 },
    };
    const rows = [
      { frame: 6, sure: 0.9, matrix: shift(1, 1) },
      { frame: 7, sure: 0.2, matrix: null },
    ];
    const after = joined(before, 5, rows);
    expect(after.from).toBe(1);
    expect(after.matrices["6"]).toEqual(shift(11, 1));
    expect(Object.keys(after.matrices)).toEqual(["1", "5", "6", "9"]);
    expect(after.sure).toEqual({ "5": 1, "6": 0.9, "7": 0.2, "9": 0.4 });
  });

  it("an outline has the corners of its curves", () => {
    expect(
      cornersOf([
        [0, 0],
        [4, 0],
        [4, 4],
      ]),
    ).toEqual([
      [0, 0],
      [4, 0],
      [4, 4],
    ]);
    expect(
      cornersOf([
        [0, 0, 0, 0, 2, 2],
        [4, 0],
        [4, 4],
      ]).length,
    ).toBeGreaterThan(8);
  });
});
