import { describe, expect, it } from "vitest";

import { type Recipe, findStep, stepsOf } from "@/api/recipe";
import { merge } from "@/shot/merge";

const base: Recipe = {
  nexal: 1,
  sources: { moth: { files: "m.exr" } },
  steps: [
    { name: "pull", op: "cross", in: { a: "moth.R", b: "moth.G" }, set: { mode: "screen" } },
    { name: "ends", op: "stretch", in: { from: "pull" }, set: { black: 0.1, white: 0.9 } },
    { name: "soft", op: "blur", in: { from: "ends" } },
  ],
};
const changed = (name: string, change: object, from = base): Recipe => ({
  ...from,
  steps: stepsOf(from).map((step) => (step.name === name ? { ...step, ...change } : step)),
});
const names = (recipe: Recipe) => stepsOf(recipe).map((step) => step.name);

describe("two people's changes", () => {
  it("that touch other settings of one step are put together", () => {
    const mine = changed("ends", { set: { black: 0.2, white: 0.9 } });
    const theirs = changed("ends", { set: { black: 0.1, white: 0.8, middle: 0.4 }, note: "look" });
    for (const prefer of ["mine", "theirs"] as const) {
      const { recipe, clashes } = merge(base, mine, theirs, prefer);
      expect(clashes).toEqual([]);
      expect(findStep(recipe, "ends")).toMatchObject({
        set: { black: 0.2, white: 0.8, middle: 0.4 },
        note: "look",
      });
    }
  });

  it("that touch one setting are told with both values, and the preferred one holds", () => {
    const mine = changed("ends", { set: { black: 0.2, white: 0.9 } });
    const theirs = changed("ends", { set: { black: 0.3, white: 0.9 } });
    const kept = merge(base, mine, theirs, "mine");
    expect(kept.clashes).toEqual([{ where: "ends: black", mine: "0.2", theirs: "0.3" }]);
    expect(findStep(kept.recipe, "ends")!.set!.black).toBe(0.2);
    expect(findStep(merge(base, mine, theirs, "theirs").recipe, "ends")!.set!.black).toBe(0.3);
  });

  it("of two steps of one name are both kept, and what names mine follows it", () => {
    const add = (op: string, user: string): Recipe => ({
      ...base,
      steps: [
        ...stepsOf(base),
        { name: "grow", op, in: { matte: "soft" } },
        { name: user, op: "invert", in: { from: "grow" } },
      ],
    });
    const { recipe, clashes } = merge(base, add("grow", "round"), add("despeckle", "turned"), "mine");
    expect(clashes).toEqual([]);
    expect(findStep(recipe, "grow")!.op).toBe("despeckle");
    expect(findStep(recipe, "grow_2")!.op).toBe("grow");
    expect(findStep(recipe, "round")!.in).toEqual({ from: "grow_2" });
    expect(findStep(recipe, "turned")!.in).toEqual({ from: "grow" });
    expect(names(recipe).indexOf("grow_2")).toBeLessThan(names(recipe).indexOf("round"));
  });

  it("that are the same are one", () => {
    const mine = changed("soft", { set: { radius: 3 } });
    expect(merge(base, mine, mine, "mine")).toEqual({ recipe: mine, clashes: [] });
  });

  it("where one takes a step away and the other changes it, or uses it, are told", () => {
    const without: Recipe = { ...base, steps: stepsOf(base).filter((step) => step.name !== "soft") };
    const { clashes, recipe } = merge(base, without, changed("soft", { set: { radius: 9 } }), "theirs");
    expect(clashes.map((clash) => clash.where)).toEqual(["soft"]);
    expect(findStep(recipe, "soft")!.set).toEqual({ radius: 9 });
    const used: Recipe = {
      ...base,
      steps: [...stepsOf(base), { name: "turned", op: "invert", in: { from: "soft" } }],
    };
    const clash = { where: "turned: fed from soft", mine: "took it away", theirs: "uses it" };
    expect(merge(base, without, used, "mine").clashes).toEqual([clash]);
    // Where the side that uses it is preferred, it is there again, in its place.
    const back = merge(base, without, used, "theirs");
    expect([back.clashes, names(back.recipe)]).toEqual([[clash], ["pull", "ends", "soft", "turned"]]);
    expect(merge(base, without, base, "theirs").recipe.steps).toHaveLength(2);
  });

  it("of the order: who moved steps has them where they were put", () => {
    const moved: Recipe = {
      ...base,
      steps: [base.steps![0]!, { name: "free", op: "noise" }, ...base.steps!.slice(1)],
    };
    const turned: Recipe = {
      ...moved,
      steps: [moved.steps![1]!, moved.steps![0]!, ...moved.steps!.slice(2)],
    };
    const theirs = changed("soft", { set: { radius: 3 } }, moved);
    expect(names(merge(moved, turned, theirs, "theirs").recipe)).toEqual(["free", "pull", "ends", "soft"]);
    expect(names(merge(moved, theirs, turned, "mine").recipe)).toEqual(["free", "pull", "ends", "soft"]);
  });

  it("of sources and outputs are put together too", () => {
    const mine: Recipe = { ...base, sources: { ...base.sources, fern: { files: "f.exr" } } };
    const theirs: Recipe = { ...base, outputs: { cut: { from: "soft" } } };
    const { recipe, clashes } = merge(base, mine, theirs, "mine");
    expect([Object.keys(recipe.sources!), recipe.outputs, clashes]).toEqual([
      ["moth", "fern"],
      { cut: { from: "soft" } },
      [],
    ]);
  });
});
