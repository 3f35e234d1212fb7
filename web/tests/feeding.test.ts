import { describe, expect, it } from "vitest";

import type { Item } from "@/api/client";
import { type Recipe, findStep, insertAfter } from "@/api/recipe";
import { fits, newStep } from "@/lineage/feeding";
import { together } from "@/wall/together";

import { OPERATIONS, find } from "./catalogue";

const told = (name: string, plane = false) =>
  ({
    name,
    plane,
    channels: plane ? ["Y"] : ["R", "G", "B"],
    roles: plane ? ["mask"] : ["colour", "colour", "colour"],
    digest: name,
  }) as unknown as Item;

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

/** Layers of made-up renders: channels and what they hold. */
const LAYERS: Record<string, [string[], string]> = {
  "": [["R", "G", "B", "A"], "colour"],
  key: [["R", "G", "B"], "light"],
  depth: [["Z"], "depth"],
  Z: [["Z"], "depth"],
  normals: [["X", "Y", "Z"], "normal"],
  N: [["X", "Y", "Z"], "normal"],
  P: [["X", "Y", "Z"], "position"],
  ids: [["id"], "id"],
  motion: [["u", "v"], "motion"],
  st: [["u", "v"], "uv"],
  ao: [["Y"], "mask"],
  coverage: [["coverage"], "coverage"],
  odd: [["one", "two"], "unknown"],
};

function render(name: string, layers: string[]): Item {
  const rows = layers.flatMap((layer) => {
    const [channels, role] = LAYERS[layer]!;
    return channels.map(
      (last) => [layer ? `${layer}.${last}` : last, last === "A" ? "alpha" : role] as const,
    );
  });
  return {
    name,
    plane: rows.length === 1,
    channels: rows.map(([channel]) => channel),
    roles: rows.map(([, role]) => role),
    digest: name,
  } as unknown as Item;
}

/** What an address holds, by the table of layers. */
function rolesAt(items: Item[], address: string): string[] {
  const [name, ...rest] = address.split(".");
  const { channels, roles } = items.find((entry) => entry.name === name)!;
  const within = rest.join(".");
  return roles.filter(
    (_, at) => !within || channels[at] === within || channels[at]!.startsWith(`${within}.`),
  );
}

/** Whether a port that is meant for something may be fed with channels of these roles. */
const allowed = (wanted: string, roles: string[]) =>
  wanted === "depth" || wanted === "position" || wanted === "normal" || wanted === "id"
    ? roles.includes(wanted) && (wanted !== "depth" || roles.length === 1)
    : wanted === "colour"
      ? roles.includes("colour") || roles.includes("light")
      : wanted === "matte"
        ? roles.length === 1
          ? !["depth", "position", "normal", "id", "uv", "motion"].includes(roles[0]!)
          : roles.includes("alpha")
        : true;

describe("what feeds a new step by itself", () => {
  const fedWith = (op: string, items: Item[], item: string) => {
    const sources = Object.fromEntries(items.map(({ name }) => [name, { files: `${name}.exr` }]));
    return newStep(find(op), {
      recipe: { nexal: 1, sources },
      items,
      item,
      alone: null,
      operations: OPERATIONS,
    }).in!;
  };

  it("of a slice of depth is the depth, never the normals' Z", () => {
    for (const layers of [
      ["", "normals", "depth"],
      ["normals", "P", "Z", ""],
    ]) {
      const items = [render("shot", layers)];
      const depth = layers.includes("Z") ? "shot.Z.Z" : "shot.depth.Z";
      expect(fedWith("depth_slice", items, "shot")).toEqual({ depth, coverage: "shot.A" });
    }
    // Nothing where there is none.
    expect(fedWith("depth_slice", [render("shot", ["", "normals", "P"])], "shot").depth).toBeUndefined();
    expect(fedWith("grade", [render("data", ["P", "normals"]), render("moth", [""])], "data")).toEqual({
      picture: "moth",
    });
  });

  it("of colour from inks are the separations in focus, told of or not, before another picture of inks", () => {
    const inks = {
      ...render("press", []),
      channels: [..."CMYK"],
      roles: Array<string>(4).fill("ink"),
    } as Item;
    const made = { ...inks, name: "parts" } as Item;
    const recipe: Recipe = {
      nexal: 1,
      sources: { moth: { files: "m.exr" }, press: { files: "p.tif" } },
      steps: [{ name: "parts", op: "ink_split", in: { picture: "moth" } }],
    };
    for (const items of [
      [render("moth", [""]), inks],
      [render("moth", [""]), inks, made],
    ]) {
      const context = { recipe, items, item: "parts", alone: null, operations: OPERATIONS };
      expect(newStep(find("ink_join"), context).in).toEqual({ picture: "parts" });
      expect(newStep(find("ink_join"), { ...context, item: "moth" }).in!.picture).toMatch(/parts|press/);
    }
  });

  it("fits every port of every operation by what its channels hold, or is nothing", () => {
    const names = Object.keys(LAYERS);
    let seed = 5;
    const next = (most: number) => (seed = (seed * 1664525 + 1013904223) % 2 ** 32) % most;
    let guesses = 0;
    for (let trial = 0; trial < 150; trial++) {
      const items = Array.from({ length: 1 + next(4) }, (_, index) =>
        render(
          `source${index}`,
          names.filter(() => next(4) === 0).concat(next(2) ? [] : [names[next(names.length)]!]),
        ),
      ).filter(({ channels }) => channels.length);
      if (!items.length) continue;
      const item = items[next(items.length)]!.name;
      for (const operation of OPERATIONS) {
        const fed = fedWith(operation.op, items, item);
        for (const port of operation.ports)
          for (const address of [fed[port.name] ?? []].flat()) {
            guesses++;
            const what = `${operation.op} ${port.name} ${address}`;
            expect(fits(items, port, address), what).toBe(true);
            expect(allowed(port.role, rolesAt(items, address)), what).toBe(true);
          }
      }
    }
    expect(guesses).toBeGreaterThan(5000);
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
