import { describe, expect, it } from "vitest";

import type { Recipe } from "@/api/recipe";
import { recipeKey } from "@/api/recipe";
import { HALF_VALUES, halfOf } from "@/stage/halves";
import type { Planes } from "@/stage/painting";
import { type Dab, sweep } from "@/stage/strokes/coverage";
import { LaidPlanes } from "@/stage/strokes/laidPlanes";
import { onlyStrokesBeyond, reachOf, strokesBeyond } from "@/stage/strokes/pending";
import { Thinning } from "@/stage/strokes/thinning";

/** Numbers from 0 to 1 that come again in the same order each time. */
function random(seed: number): () => number {
  let state = seed;
  return () => {
    state = (state * 1664525 + 1013904223) % 2 ** 32;
    return state / 2 ** 32;
  };
}

describe("the coverage of a stroke", () => {
  it("is the largest of its dabs, by the formula of the core", () => {
    const next = random(3);
    for (let trial = 0; trial < 60; trial++) {
      const [width, height, radius, hardness] = [40, 30, 0.3 + 12 * next(), next()];
      const dab = (): Dab => ({ x: 60 * next() - 10, y: 50 * next() - 10, pressure: trial % 2 ? next() : 1 });
      const [a, b] = [dab(), trial % 5 ? dab() : null];
      const buffer = new Float32Array(width * height);
      const box = sweep(buffer, width, height, a, b ?? a, radius, hardness);
      const to = b ?? a;
      for (let row = 0; row < height; row++)
        for (let column = 0; column < width; column++) {
          const [px, py] = [column + 0.5 - a.x, row + 0.5 - a.y];
          const [dx, dy] = [to.x - a.x, to.y - a.y];
          const length = dx * dx + dy * dy;
          const t = length ? Math.min(1, Math.max(0, (px * dx + py * dy) / length)) : 0;
          const size = radius * (a.pressure + (to.pressure - a.pressure) * t);
          const half = Math.max(size * (1 - hardness), 1) / 2;
          const distance = Math.hypot(px - t * dx, py - t * dy);
          const s = Math.min(1, Math.max(0, ((size * (1 + hardness)) / 2 + half - distance) / (2 * half)));
          const wanted = size > 0 ? s * s * (3 - 2 * s) * Math.min(1, 2 * size) : 0;
          expect(buffer[row * width + column]).toBeCloseTo(wanted, 5);
          if (wanted > 0) {
            expect(column >= box![0] && column < box![0] + box![2]).toBe(true);
            expect(row >= box![1] && row < box![1] + box![3]).toBe(true);
          }
        }
    }
  });
});

describe("thinning", () => {
  it("leaves out no point further than 0.3 px beside what stays, nor a pressure that matters", () => {
    const next = random(7);
    for (let trial = 0; trial < 20; trial++) {
      const points: number[][] = [];
      let [x, y, turn] = [100, 100, 0];
      for (let at = 0; at < 400; at++) {
        turn += next() - 0.5;
        x += 2 * Math.cos(turn) * next();
        y += 2 * Math.sin(turn) * next();
        points.push([x, y, 0.5 + 0.5 * Math.sin(at / 40)]);
      }
      const thinning = new Thinning(points[0]!, 20, 60);
      for (const point of points.slice(1)) thinning.add(point);
      const kept = thinning.finished();
      expect(kept.length).toBeLessThan(points.length);
      expect(kept[0]).toEqual(points[0]);
      expect(kept.at(-1)).toEqual(points.at(-1));
      for (const [px, py, pressure] of points) {
        const near = kept.slice(1).some(([bx, by, bp], at) => {
          const [ax, ay, ap] = kept[at]!;
          const [dx, dy] = [bx! - ax!, by! - ay!];
          const length = dx * dx + dy * dy;
          const t = length ? Math.min(1, Math.max(0, ((px! - ax!) * dx + (py! - ay!) * dy) / length)) : 0;
          const beside = Math.hypot(ax! + t * dx - px!, ay! + t * dy - py!);
          return beside <= 0.3 + 1e-9 && Math.abs(ap! + (bp! - ap!) * t - pressure!) * 20 <= 0.3 + 1e-9;
        });
        expect(near).toBe(true);
      }
    }
  });

  it("keeps the way back along the same line", () => {
    const thinning = new Thinning([0, 0], 5, 1000);
    for (const x of [5, 10, 15, 10, 5]) thinning.add([x, 0]);
    expect(thinning.finished()).toEqual([
      [0, 0],
      [15, 0],
      [5, 0],
    ]);
  });
});

/** One plane of a picture, with 0.25 everywhere. */
const grey = (scale = 1): Planes => ({
  channels: ["Y"],
  data: [true],
  alpha: "none",
  region: [10, 5, 40, 30],
  scale,
  display: [0, 0, 200, 200],
  digest: "d",
  ranges: [null],
  finished: false,
  samples: [new Uint16Array(1200).fill(halfOf(0.25))],
});

describe("planes with strokes on them", () => {
  it("hold the same whether a stroke came at once or point by point", () => {
    const points = Array.from({ length: 50 }, (_, at) => [20 + at / 2, 20 + 6 * Math.sin(at / 5)]);
    const brushed = { radius: 4, hardness: 0.3, opacity: 0.7, value: 1 };
    const whole = new LaidPlanes(grey(), "matte");
    whole.lay({ points, ...brushed });
    const slow = new LaidPlanes(grey(), "matte");
    slow.begin(brushed);
    for (let at = 0; at < 50; at++) slow.extend(points.slice(0, Math.max(1, at - 3)), points[at]!);
    slow.extend(points, points.at(-1)!);
    expect(slow.planes.samples[0]).toEqual(whole.planes.samples[0]);
    // The next stroke is laid over it, and mixes with what is there.
    slow.end();
    slow.lay({ points: [points[25]!], ...brushed, value: 0 });
    const [x, y] = points[25]!;
    const at = (Math.floor(y!) - 5) * 40 + Math.floor(x!) - 10;
    const before = HALF_VALUES[whole.planes.samples[0]![at]!]!;
    expect(HALF_VALUES[slow.planes.samples[0]![at]!]).toBeCloseTo(before * 0.3, 2);
  });

  it("leave channels alone that a stroke does not name", () => {
    const planes = (): Planes => ({
      ...grey(),
      channels: ["R", "A"],
      data: [false, true],
      ranges: [null, null],
      samples: [0.25, 1].map((value) => new Uint16Array(1200).fill(halfOf(value))),
    });
    const changed = (laid: LaidPlanes) =>
      laid.planes.samples.map((samples, at) => samples.some((bits) => bits !== planes().samples[at]![0]));
    const stroke = { points: [[30, 20]], radius: 5, value: 0 };
    for (const [channels, wanted] of [
      [[], [true, true]],
      [["A"], [false, true]],
      [
        ["R", "G", "B"],
        [true, false],
      ],
    ] as const) {
      const laid = new LaidPlanes(planes(), "cut");
      laid.lay({ ...stroke, channels: [...channels] });
      expect(changed(laid)).toEqual(wanted);
    }
    // Alpha alone, as it is laid over its picture; and a plane, which has no other channel.
    const alpha = new LaidPlanes(grey(), "cut.A");
    alpha.lay({ ...stroke, channels: ["R", "G", "B"] });
    expect(changed(alpha)[0]).toBe(false);
  });
});

describe("strokes that are not computed yet", () => {
  const stroke = (x: number) => ({ points: [[x, x]], radius: 4 });
  const recipe = (count: number, more: Partial<Recipe> = {}): Recipe => ({
    nexal: 1,
    sources: { moth: { files: "moth.exr" } },
    steps: [
      { name: "matte", op: "weigh", in: { from: "moth" } },
      {
        name: "touch_up",
        op: "touch_up",
        in: { matte: "matte" },
        set: { strokes: Array.from({ length: count }, (_, at) => stroke(50 * at)) },
      },
    ],
    ...more,
  });

  it("are those beyond the ones of before", () => {
    expect(strokesBeyond(recipe(2), recipe(4), "touch_up")).toEqual([stroke(100), stroke(150)]);
    expect(strokesBeyond(recipe(4), recipe(2), "touch_up")).toEqual([]);
    expect(strokesBeyond({ nexal: 1 }, recipe(1), "touch_up")).toEqual([stroke(0)]);
    const erased = recipe(3);
    (erased.steps![1]!.set!.strokes as unknown[]).splice(0, 1);
    expect(strokesBeyond(recipe(1), erased, "touch_up")).toEqual([]);
  });

  it("are all that differs, or all is asked for", () => {
    expect(onlyStrokesBeyond(recipe(1), recipe(2), "touch_up")).toEqual([stroke(50)]);
    expect(onlyStrokesBeyond(recipe(1), recipe(2, { at: 3 }), "touch_up")).toBeNull();
    const other = recipe(2, { sources: { moth: { files: "moth.exr", colour: "data" } } });
    expect(onlyStrokesBeyond(recipe(1), other, "touch_up")).toBeNull();
    const off = recipe(2);
    off.steps![0]!.on = false;
    expect(onlyStrokesBeyond(recipe(1), off, "touch_up")).toBeNull();
    expect(onlyStrokesBeyond(recipe(1), recipe(2), "matte")).toBeNull();
  });

  it("reach a part of the region, on a grid", () => {
    expect(reachOf([stroke(100)], 1, [0, 0, 400, 300])).toEqual([80, 80, 32, 32]);
    expect(reachOf([stroke(100)], 4, [0, 0, 100, 75])).toEqual([16, 16, 16, 16]);
    expect(reachOf([stroke(-50)], 1, [0, 0, 400, 300])).toBeNull();
  });

  it("recipes that say the same have the same key, and others another", () => {
    expect(recipeKey(recipe(2))).toBe(recipeKey(recipe(2)));
    expect(recipeKey(recipe(2))).not.toBe(recipeKey(recipe(3)));
    expect(recipeKey(recipe(2, { at: 2 }))).not.toBe(recipeKey(recipe(2)));
  });
});

it("half floats are the nearest, ties to even, of every size", () => {
  for (let bits = 0; bits < 0x7c00; bits++) {
    expect(halfOf(HALF_VALUES[bits]!)).toBe(bits);
    if (bits >= 0x7bff) continue;
    const middle = (HALF_VALUES[bits]! + HALF_VALUES[bits + 1]!) / 2;
    expect(halfOf(middle)).toBe(bits % 2 ? bits + 1 : bits);
    expect(halfOf(-middle * (1 + 2 ** -20)) & 0x7fff).toBe(bits + 1);
  }
  expect([halfOf(65520), halfOf(-1e9), halfOf(Infinity), HALF_VALUES[halfOf(NaN)]]).toEqual([
    0x7c00,
    0xfc00,
    0x7c00,
    NaN,
  ]);
});
