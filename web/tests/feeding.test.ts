import { describe, expect, it } from "vitest";

import type { Item, OperationRow } from "@/api/client";
import { type Recipe, findStep, insertAfter } from "@/api/recipe";
import { newStep } from "@/lineage/feeding";
import { together } from "@/wall/together";

const port = (name: string, kind: string, required = true, many = false) => ({
  name,
  kind,
  text: "",
  required,
  many,
});
const operation = (op: string, makes: string, ...ports: ReturnType<typeof port>[]) =>
  ({ op, makes, family: "", text: "", needs: "", ports, free_ports: null, settings: {} }) as OperationRow;

const OPERATIONS = [
  operation(
    "stack",
    "picture",
    port("under", "picture"),
    port("over", "picture"),
    port("matte", "plane", false),
  ),
  operation(
    "sum_passes",
    "picture",
    port("passes", "picture", true, true),
    port("alpha_from", "plane", false),
  ),
  operation("residual", "plane", port("full", "picture"), port("rebuilt", "picture")),
  operation("route", "picture", port("base", "picture", false)),
  operation("screen_pull", "plane", port("picture", "picture"), port("clean", "picture", false)),
  operation("difference_pull", "plane", port("picture", "picture"), port("clean", "picture")),
  operation(
    "recover_colour",
    "picture",
    port("picture", "picture"),
    port("matte", "plane"),
    port("clean", "picture", false),
  ),
  operation("logic", "plane", port("mattes", "plane", true, true)),
  operation("fit_to", "same", port("picture", "any"), port("like", "any")),
  operation("cross", "plane", port("a", "plane"), port("b", "plane")),
  operation("blur", "same", port("from", "any")),
  operation("grade", "picture", port("picture", "picture"), port("matte", "plane", false)),
  operation("threshold", "plane", port("from", "plane")),
  operation("place", "picture", port("picture", "any")),
];
const find = (op: string) => OPERATIONS.find((entry) => entry.op === op)!;
const told = (name: string, plane = false) =>
  ({ name, plane, channels: plane ? ["Y"] : ["R", "G", "B"], digest: name }) as unknown as Item;

const start: Recipe = { nexal: 1, sources: { moth: { files: "m.exr" }, fern: { files: "f.exr" } } };

describe("steps added faster than the server tells of them", () => {
  it("each hangs on the one before", () => {
    let recipe = start;
    let item = "fern";
    const items = [told("moth"), told("fern")];
    for (const op of [
      "grade",
      "blur",
      "grade",
      "place",
      "blur",
      "blur",
      "grade",
      "cross",
      "blur",
      "threshold",
    ]) {
      const step = newStep(find(op), { recipe, items, item, alone: null, operations: OPERATIONS });
      const fed = Object.values(step.in!).flat()[0]!;
      expect(fed.split(".")[0], `${op} after ${item}`).toBe(item);
      recipe = insertAfter(recipe, step, item);
      item = step.name;
    }
  });

  it("takes a step with a fault by its name too", () => {
    const recipe = insertAfter(start, { name: "odd", op: "blur", in: { from: "gone" } }, null);
    const items = [told("moth"), told("fern"), { ...told("odd"), problem: { message: "x" } } as Item];
    const step = newStep(find("blur"), { recipe, items, item: "odd", alone: null, operations: OPERATIONS });
    expect(step.in).toEqual({ from: "odd" });
  });

  it("knows a plane from a picture by what made it", () => {
    const crossed = { name: "cross", op: "cross", in: { a: "moth.R", b: "moth.G" } };
    const blurred = { name: "blur", op: "blur", in: { from: "moth.R" } };
    const recipe = { ...start, steps: [crossed, blurred] };
    for (const item of ["cross", "blur"]) {
      const context = {
        recipe,
        items: [told("moth"), told("fern")],
        item,
        alone: null,
        operations: OPERATIONS,
      };
      expect(newStep(find("threshold"), context).in).toEqual({ from: item });
      expect(newStep(find("grade"), context).in!.picture).toBe("moth");
    }
  });
});

describe("ports beside the first", () => {
  const add = (
    op: string,
    recipe: Recipe,
    item: string,
    { alone = null, dragged }: { alone?: string[] | null; dragged?: string } = {},
  ) => {
    const items = Object.keys(recipe.sources!).map((name) => told(name));
    return newStep(find(op), { recipe, items, item, alone, operations: OPERATIONS }, dragged);
  };
  const pull = { name: "pull", op: "cross", in: { a: "moth.R", b: "moth.G" } };
  const pulled: Recipe = { ...start, steps: [pull] };

  it("of a grade and of a stack take the matte in focus, or the channel shown alone, and no other", () => {
    expect(add("grade", pulled, "pull").in).toEqual({ picture: "moth", matte: "pull" });
    expect(add("grade", pulled, "moth", { alone: ["G"] }).in).toEqual({ picture: "moth", matte: "moth.G" });
    expect(add("grade", pulled, "moth").in).toEqual({ picture: "moth" });
    expect(add("stack", pulled, "pull").in).toEqual({ under: "fern", over: "moth", matte: "pull" });
    const cut = { name: "cut", op: "grade", in: { picture: "fern" } };
    expect(add("stack", { ...pulled, steps: [pull, cut] }, "cut").in!.under).toBe("moth");
    expect(
      add("stack", { ...pulled, sources: { fern: { files: "f" }, moth: { files: "m" } } }, "pull").in!.under,
    ).toBe("fern");
  });

  it("of a route take a base and the chosen channel", () => {
    const alone = add("route", pulled, "fern", { alone: ["B"] });
    expect([alone.in, alone.set]).toEqual([{ base: "fern" }, { to: { mask: { from: "fern.B" } } }]);
    const matte = add("route", pulled, "pull");
    expect([matte.in, matte.set]).toEqual([{ base: "moth" }, { to: { mask: { from: "pull" } } }]);
  });

  it("of a residual are the render and what was rebuilt, the right way round, whatever is in focus", () => {
    const sum = { name: "sum", op: "sum_passes", in: { passes: ["moth.a", "moth.b"] } };
    const recipe: Recipe = { ...start, steps: [sum] };
    for (const item of ["sum", "moth"])
      expect(add("residual", recipe, item).in, item).toEqual({ full: "moth", rebuilt: "sum" });
    const files: Recipe = {
      nexal: 1,
      sources: { key: { files: "k" }, fill: { files: "f" }, shot_full: { files: "s" } },
      steps: [{ ...sum, in: { passes: ["key", "fill"] } }],
    };
    expect(add("residual", files, "sum").in).toEqual({ full: "shot_full", rebuilt: "sum" });
    const unnamed: Recipe = {
      ...files,
      sources: { key: { files: "k" }, fill: { files: "f" }, shot: { files: "s" } },
    };
    expect(add("residual", unnamed, "sum").in).toEqual({ full: "shot", rebuilt: "sum" });
    expect(add("sum_passes", start, "moth").in).toEqual({ passes: ["moth"] });
  });

  it("that want the clean plate take what the pull took, or what is named so, and else stay open", () => {
    const sources = { moth: { files: "m.exr" }, plate: { files: "moth_empty.exr" } };
    const screen = { name: "pull", op: "screen_pull", in: { picture: "moth" } };
    const named: Recipe = { nexal: 1, sources, steps: [screen] };
    expect(add("recover_colour", named, "pull").in).toEqual({
      picture: "moth",
      matte: "pull",
      clean: "plate",
    });
    expect(add("screen_pull", named, "moth").in).toEqual({ picture: "moth", clean: "plate" });
    const used: Recipe = { ...start, steps: [{ ...screen, in: { picture: "moth", clean: "fern" } }] };
    expect(add("recover_colour", used, "pull").in!.clean).toBe("fern");
    const bare: Recipe = { ...start, steps: [screen] };
    expect(add("recover_colour", bare, "pull").in).toEqual({ picture: "moth", matte: "pull" });
    expect(add("difference_pull", bare, "moth").in).toEqual({ picture: "moth", clean: "fern" });
  });

  it("that take any size take another picture than the one that is fitted", () => {
    expect(add("fit_to", start, "moth").in).toEqual({ picture: "moth", like: "fern" });
  });
});

describe("channels of several files", () => {
  it("are put together in the order in which they were taken, and taken out again", () => {
    const [two, name] = together(start, "moth", ["moth.R"], "fern.G")!;
    expect(findStep(two, name)!.set).toEqual({ to: { R: { from: "moth.R" }, G: { from: "fern.G" } } });
    const [three] = together(two, name, [], "fern.B")!;
    expect(findStep(three, name)!.set!.to).toEqual({
      R: { from: "moth.R" },
      G: { from: "fern.G" },
      B: { from: "fern.B" },
    });
    const [four] = together(three, name, [], "moth.A")!;
    expect(findStep(four, name)!.set!.to).toEqual({
      R: { from: "fern.G" },
      G: { from: "fern.B" },
      B: { from: "moth.A" },
    });
    const [less] = together(three, name, [], "fern.G")!;
    expect(findStep(less, name)!.set!.to).toEqual({ R: { from: "moth.R" }, G: { from: "fern.B" } });
  });
  it("need another to be put together with", () => {
    expect(together(start, "moth", [], "fern.G")).toBeNull();
  });
});
