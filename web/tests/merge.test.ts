import fc from "fast-check";
import { describe, expect, it } from "vitest";

import {
  type Recipe,
  type Step,
  addressesOf,
  findStep,
  freeName,
  itemOf,
  itemsOf,
  putBetween,
  remove,
  rename,
  setPort,
  setSetting,
  sourcesOf,
  stepsOf,
} from "@/api/recipe";
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

  it("of a source that one took away and the other's new step is fed from", () => {
    const without = remove(base, "moth", false);
    const alone = { ...without, steps: [] };
    const used: Recipe = {
      ...base,
      steps: [...stepsOf(base), { name: "turned", op: "invert", in: { from: "moth.B" } }],
    };
    for (const prefer of ["mine", "theirs"] as const) {
      const { recipe, clashes } = merge(base, alone, used, prefer);
      expect(Object.keys(recipe.sources!)).toEqual(["moth"]);
      expect(names(recipe)).toEqual(["turned"]);
      expect(clashes).toEqual([{ where: "turned: fed from moth", mine: "took it away", theirs: "uses it" }]);
    }
  });

  it("of a row of steps that one took away and the other is fed from", () => {
    const without: Recipe = { ...base, steps: stepsOf(base).slice(0, 1) };
    const used: Recipe = {
      ...base,
      steps: [...stepsOf(base), { name: "turned", op: "invert", in: { from: "soft" } }],
    };
    for (const prefer of ["mine", "theirs"] as const)
      expect(names(merge(base, used, without, prefer).recipe)).toEqual(["pull", "ends", "soft", "turned"]);
  });

  it("that would feed two steps from each other are the preferred one's", () => {
    const two: Recipe = {
      ...base,
      steps: [...stepsOf(base), { name: "other", op: "blur", in: { from: "pull" } }],
    };
    const mine = setPort(two, "other", "from", "ends");
    const theirs = setPort(
      { ...two, steps: [two.steps![0]!, two.steps![3]!, two.steps![1]!, two.steps![2]!] },
      "ends",
      "from",
      "other",
    );
    const kept = merge(two, mine, theirs, "mine");
    expect(findStep(kept.recipe, "ends")!.in).toEqual({ from: "pull" });
    expect(findStep(kept.recipe, "other")!.in).toEqual({ from: "ends" });
    expect(kept.clashes.map((clash) => clash.where)).toEqual(["other: fed from", "ends: fed from"]);
    expect(findStep(merge(two, mine, theirs, "theirs").recipe, "other")!.in).toEqual({ from: "pull" });
  });
});

/** Makes an edit out of numbers: each chooses by its rest. */
type Edit = (recipe: Recipe) => Recipe;

const OPS = ["invert", "cross", "stack", "bay"];

function chosen<T>(from: readonly T[], number: number): T | undefined {
  return from[number % Math.max(1, from.length)];
}

function fedFrom(recipe: Recipe, below: number, number: number): string | undefined {
  const items = [...Object.keys(sourcesOf(recipe)), ...names(recipe).slice(0, below)];
  const item = chosen(items, number);
  return item && (number % 3 ? item : `${item}.R`);
}

function newStep(recipe: Recipe, name: string, op: string, numbers: number[]): Recipe {
  const [at, ...feeds] = numbers;
  const place = at! % (stepsOf(recipe).length + 1);
  const addresses = feeds
    .map((number) => fedFrom(recipe, place, number))
    .filter((address) => address !== undefined);
  const step: Step = { name, op, in: {} };
  if (op === "bay")
    step.set = { layers: addresses.map((address) => ({ from: address, mask: addresses[0]! })) };
  else if (op === "stack") step.in = { layers: addresses };
  else step.in = Object.fromEntries(addresses.map((address, index) => [`in${index}`, address]));
  return { ...recipe, steps: [...stepsOf(recipe).slice(0, place), step, ...stepsOf(recipe).slice(place)] };
}

const number = fc.nat(40);
const someNumbers = fc.array(number, { minLength: 3, maxLength: 4 });
const edit: fc.Arbitrary<Edit> = fc.oneof(
  // Names are few, so that two people use the same.
  fc.tuple(fc.constantFrom("grow", "a", "b", "plate"), fc.constantFrom(...OPS), someNumbers).map(
    ([name, op, numbers]): Edit =>
      (recipe) =>
        newStep(recipe, freeName(recipe, name), op, numbers),
  ),
  fc.constantFrom("fern", "plate", "a").map((name): Edit => (recipe) => ({
    ...recipe,
    sources: { ...sourcesOf(recipe), [freeName(recipe, name)]: { files: `${name}.exr` } },
  })),
  fc.tuple(number, fc.boolean()).map(([which, bridge]): Edit => (recipe) => {
    const name = chosen(itemsOf(recipe), which);
    return name ? withoutUsers(remove(recipe, name, bridge)) : recipe;
  }),
  fc.tuple(number, fc.constantFrom("x", "y", "a")).map(([which, wanted]): Edit => (recipe) => {
    const name = chosen(itemsOf(recipe), which);
    return name ? rename(recipe, name, freeName(recipe, wanted)) : recipe;
  }),
  fc.tuple(number, number).map(([which, feed]): Edit => (recipe) => {
    const place = which % Math.max(1, stepsOf(recipe).length);
    const address = fedFrom(recipe, place, feed);
    const step = stepsOf(recipe)[place];
    return step && address ? setPort(recipe, step.name, "in0", address) : recipe;
  }),
  fc.tuple(number, number).map(([which, value]): Edit => (recipe) => {
    const name = chosen(names(recipe), which);
    return name ? setSetting(recipe, name, "amount", value) : recipe;
  }),
  number.map(
    (which): Edit =>
      (recipe) =>
        putBetween(recipe, chosen(names(recipe), which) ?? ""),
  ),
  fc.tuple(number, number).map(([from, to]): Edit => (recipe) => {
    const moved = chosen(stepsOf(recipe), from);
    const rest = stepsOf(recipe).filter((step) => step !== moved);
    const at = to % (rest.length + 1);
    const steps = moved ? [...rest.slice(0, at), moved, ...rest.slice(at)] : rest;
    return faults({ ...recipe, steps }).length ? recipe : { ...recipe, steps };
  }),
);

/** What was fed from something that is gone goes as well. */
function withoutUsers(recipe: Recipe): Recipe {
  const known = new Set(itemsOf(recipe));
  const steps = stepsOf(recipe).filter((step) =>
    addressesOf(step).every((address) => known.has(itemOf(address))),
  );
  return steps.length === stepsOf(recipe).length ? recipe : withoutUsers({ ...recipe, steps });
}

/** Why a recipe can't be planned: names that are not unique, addresses of nothing or of what comes later. */
function faults(recipe: Recipe): string[] {
  const found: string[] = [];
  const done = new Set<string>();
  const add = (name: string) => {
    if (done.has(name)) found.push(`${name} is there twice`);
    done.add(name);
  };
  Object.keys(sourcesOf(recipe)).forEach(add);
  for (const step of stepsOf(recipe)) {
    for (const address of addressesOf(step))
      if (!done.has(itemOf(address))) found.push(`${step.name} is fed from ${address}`);
    add(step.name);
  }
  return found;
}

const edits = fc.array(edit, { maxLength: 8 });
const made = (from: Recipe, list: Edit[]) => list.reduce((recipe, change) => change(recipe), from);

describe("any two edits of any recipe", () => {
  it("merge to a recipe that plans, whichever is preferred", () => {
    fc.assert(
      fc.property(edits, edits, edits, (before, mine, theirs) => {
        const start = made(base, before);
        const sides = [made(start, mine), made(start, theirs)] as const;
        for (const recipe of [start, ...sides]) expect(faults(recipe)).toEqual([]);
        for (const prefer of ["mine", "theirs"] as const)
          expect(faults(merge(start, ...sides, prefer).recipe)).toEqual([]);
      }),
      { numRuns: 1500, seed: 32 },
    );
  });

  it("hold what only one of them changed", () => {
    fc.assert(
      fc.property(edits, edits, (before, theirs) => {
        const start = made(base, before);
        const changed = made(start, theirs);
        for (const prefer of ["mine", "theirs"] as const) {
          const { recipe, clashes } = merge(start, start, changed, prefer);
          expect([clashes, new Set(itemsOf(recipe))]).toEqual([[], new Set(itemsOf(changed))]);
        }
      }),
      { numRuns: 500, seed: 32 },
    );
  });
});
