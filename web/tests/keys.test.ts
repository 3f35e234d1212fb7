import { describe, expect, it } from "vitest";

import { type Recipe, changeStep, duplicate, insertAfter, remove, rename, setSetting } from "@/api/recipe";
import {
  changedAt,
  lookedAt,
  movingIn,
  placed,
  shifted,
  takenAfter,
  valueAt,
  valueIn,
  withKey,
} from "@/time/keys";

const keyed = {
  keys: [
    [1, 0, "linear"],
    [11, 10],
  ],
} as const;
const recipe = {
  nexal: 1,
  sources: { moth: { files: "moth.%04d.exr" } },
  steps: [
    { name: "soft", op: "blur", in: { from: "moth" }, set: { radius: keyed, filter: "box" } },
    {
      name: "outline",
      op: "shape",
      set: {
        paths: [
          {
            points: [
              [0, 0],
              [4, 0],
              [4, 4],
            ],
            mode: "add",
          },
          {
            keys: [
              [
                1,
                [
                  [0, 0],
                  [8, 0],
                  [8, 8],
                ],
              ],
              [
                5,
                [
                  [4, 0],
                  [12, 0],
                  [12, 8, 1, 1, 2, 2],
                ],
              ],
            ],
            opacity: keyed,
          },
        ],
      },
    },
    { name: "bay", op: "bay", set: { layers: [{ value: 0.2 }, { value: keyed, mask: "soft" }] } },
    { name: "still", op: "invert", in: { from: "soft" } },
  ],
} as unknown as Recipe;
const saved = JSON.stringify(recipe);

describe("values over time", () => {
  it("goes over as the earlier key says, and holds beyond", () => {
    for (const [way, half] of [
      ["linear", 0.25],
      ["smooth", 0.15625],
      ["hold", 0],
    ] as const) {
      const keys = [
        [1, 0, way],
        [5, 1],
      ] as [number, number, typeof way][];
      expect(valueAt(keys, 2)).toBeCloseTo(half);
      expect([valueAt(keys, -3), valueAt(keys, 5), valueAt(keys, 99)]).toEqual([0, 1, 1]);
    }
    expect(
      valueAt(
        [
          [1, [0, [2]]],
          [3, [4, [6]]],
        ],
        2,
      ),
    ).toEqual([2, [4]]);
  });

  it("looks at a recipe at a frame, and leaves what stands still as it is", () => {
    const at = lookedAt(recipe, 6);
    expect(at.at).toBe(6);
    expect(JSON.parse(JSON.stringify(at.steps![0]!.set))).toEqual({ radius: 5, filter: "box" });
    expect((at.steps![2]!.set!.layers as { value: number }[])[1]!.value).toBe(5);
    expect(at.steps![3]).toBe(recipe.steps![3]);
    const path = (lookedAt(recipe, 3).steps![1]!.set!.paths as Record<string, unknown>[])[1]!;
    expect(path.points).toEqual([
      [2, 0],
      [10, 0],
      [10, 8, 0.5, 0.5, 1, 1],
    ]);
    expect(path.opacity).toBe(2);
    expect(JSON.stringify(recipe)).toBe(saved);
  });

  it("sees the same recipe at the same frame as the same object", () => {
    const first = lookedAt(recipe, 6);
    expect(lookedAt(recipe, 6)).toBe(first);
    expect(lookedAt(recipe, 1)).not.toBe(first);
    expect(lookedAt(recipe, 1).at).toBeUndefined();
    expect(lookedAt({ ...recipe }, 6)).not.toBe(first);
    expect(lookedAt(recipe, 6)).toEqual(first);
  });
});

describe("changes at a frame", () => {
  const set = (name: string, setting: string, value: unknown) => (before: Recipe) =>
    setSetting(before, name, setting, value);

  it("makes a key where a moving value is changed, and only there", () => {
    const after = changedAt(recipe, set("soft", "radius", 7), 6);
    expect(after.steps![0]!.set!.radius).toEqual({
      keys: [
        [1, 0, "linear"],
        [6, 7, "linear"],
        [11, 10],
      ],
    });
    expect(after.steps!.slice(1)).toEqual(recipe.steps!.slice(1));
    expect("at" in after).toBe(false);
    const other = changedAt(recipe, set("soft", "filter", "gaussian"), 6);
    expect(other.steps![0]!.set!.radius).toEqual(keyed);
    const again = changedAt(after, set("soft", "radius", 3), 6);
    expect((again.steps![0]!.set!.radius as typeof keyed).keys).toHaveLength(3);
  });

  it("keeps keys through renaming, moving, adding, doubling and removing", () => {
    const changes: ((before: Recipe) => Recipe)[] = [
      (before) => rename(before, "soft", "softer"),
      (before) => duplicate(before, "soft")[0],
      (before) => insertAfter(before, { name: "new", op: "invert", in: { from: "soft" } }, "soft"),
      (before) => remove(before, "still", false),
    ];
    for (const change of changes) {
      const after = changedAt(recipe, change, 6);
      const radii = after.steps!.filter((step) => step.op === "blur").map((step) => step.set!.radius);
      expect(radii.length).toBeGreaterThan(0);
      for (const radius of radii) expect(radius).toEqual(keyed);
      const plain = (each: Recipe) => each.steps!.filter((step) => step.op !== "shape");
      expect(plain(after)).toEqual(plain(change(recipe)));
    }
  });

  it("follows what is in lists: bars, curves, one of them taken away", () => {
    const bars = changedAt(
      recipe,
      (before) =>
        changeStep(before, "bay", (step) => ({
          ...step,
          set: { layers: (step.set!.layers as object[]).slice(1).map((bar) => ({ ...bar, opacity: 0.5 })) },
        })),
      6,
    );
    expect(bars.steps![2]!.set!.layers).toEqual([{ value: keyed, mask: "soft", opacity: 0.5 }]);
    const moved = changedAt(
      recipe,
      (before) =>
        changeStep(before, "outline", (step) => ({
          ...step,
          set: {
            paths: (step.set!.paths as { points: number[][] }[]).map((path) => ({
              ...path,
              points: path.points.map(([x, y, ...rest]) => [x! + 1, y!, ...rest]),
            })),
          },
        })),
      5,
    );
    const [still, moving] = moved.steps![1]!.set!.paths as Record<string, unknown>[];
    expect(still!.points).toEqual([
      [1, 0],
      [5, 0],
      [5, 4],
    ]);
    expect((moving!.points as typeof keyed).keys.map((key) => key[0])).toEqual([1, 5]);
    expect((moving!.points as { keys: unknown[][] }).keys[1]![1]).toEqual([
      [5, 0],
      [13, 0],
      [13, 8, 1, 1, 2, 2],
    ]);
    expect(moving!.opacity).toEqual(keyed);
  });

  it("points added to a curve, or taken away, are so at every key", () => {
    const points = (change: (points: number[][]) => number[][]) => {
      const after = changedAt(
        recipe,
        (before) =>
          changeStep(before, "outline", (step) => ({
            ...step,
            set: {
              paths: (step.set!.paths as { points: number[][] }[]).map((path, index) =>
                index === 1 ? { ...path, points: change(path.points) } : path,
              ),
            },
          })),
        3,
      );
      const path = (after.steps![1]!.set!.paths as { points: { keys: [number, number[][]][] } }[])[1]!;
      return path.points.keys;
    };
    const fewer = points((own) => own.filter((_, index) => index !== 1));
    expect(fewer.map(([frame, each]) => [frame, each.length])).toEqual([
      [1, 2],
      [3, 2],
      [5, 2],
    ]);
    expect(fewer[0]![1]).toEqual([
      [0, 0],
      [8, 8],
    ]);
    const more = points((own) => [own[0]!, [5, 0], ...own.slice(1)]);
    expect(more.map(([frame, each]) => [frame, each.length])).toEqual([
      [1, 4],
      [3, 4],
      [5, 4],
    ]);
    expect(more[0]![1][1]!.slice(0, 2)).toEqual([4, 0]);
    expect(more[1]![1][1]).toEqual([5, 0]);
  });

  it("a reset takes the keys away, and a change of nothing is none", () => {
    const reset = changedAt(recipe, set("soft", "radius", undefined), 6);
    expect(reset.steps![0]!.set).toEqual({ filter: "box" });
    expect(changedAt(recipe, (before) => before, 6)).toBe(recipe);
  });
});

describe("keys themselves", () => {
  it("are found, read and written wherever they stand", () => {
    expect(movingIn(recipe.steps![1]).map(({ place }) => place)).toEqual([
      ["paths", 1, "opacity"],
      ["paths", 1, "points"],
    ]);
    const place = ["layers", 1, "value"];
    expect(valueIn(recipe.steps![2]!, place)).toEqual(keyed);
    expect(placed(recipe.steps![2]!, place, () => 4).set!.layers).toEqual([
      { value: 0.2 },
      { value: 4, mask: "soft" },
    ]);
    expect((valueIn(recipe.steps![1]!, ["paths", 1, "points"]) as typeof keyed).keys).toHaveLength(2);
  });

  it("move together and stop before those that stay", () => {
    const keys = [
      [1, 0],
      [3, 1],
      [5, 2],
    ] as [number, number][];
    expect(shifted(keys, [1, 3], 10)).toEqual([
      [5, 2],
      [11, 0],
      [13, 1],
    ]);
    expect(shifted(keys, [3], 2).map((key) => key[0])).toEqual([1, 4, 5]);
    expect(takenAfter(keys, [3], shifted(keys, [3], 2))).toEqual([4]);
    expect(takenAfter(keys, [1, 3], shifted(keys, [1, 3], 10))).toEqual([11, 13]);
    expect(withKey(keys, 5, 9)).toEqual([
      [1, 0],
      [3, 1],
      [5, 9],
    ]);
  });
});
