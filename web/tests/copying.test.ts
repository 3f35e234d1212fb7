import { describe, expect, it } from "vitest";

import { type Recipe, type Step, insertNamed, insertSteps } from "@/api/recipe";
import { putToUse } from "@/shot/chains";
import { copied, fedFrom, lacking, stepsIn } from "@/shot/copying";

const RECIPE: Recipe = {
  nexal: 1,
  sources: { moth: { files: "m.exr" }, house: { files: "h.exr" } },
  steps: [
    { name: "pull", op: "cross", in: { a: "moth.G", b: "moth.R" } },
    { name: "grey", op: "weigh", in: { from: "house" } },
    {
      name: "core",
      op: "stretch",
      in: { from: "pull" },
      set: {
        white: {
          keys: [
            [1, 0.4],
            [9, 0.6],
          ],
        },
      },
    },
    { name: "bay", op: "bay", in: { like: "moth" }, set: { layers: [{ from: "core", mask: "grey" }] } },
  ],
};
const names = (text: string | null) => stepsIn(text!)!.map((step) => step.name);

describe("copied steps", () => {
  it("come alone, or with all that they need and no more, in order", () => {
    expect(names(copied(RECIPE, ["core"], false))).toEqual(["core"]);
    expect(names(copied(RECIPE, ["core"], true))).toEqual(["pull", "core"]);
    // What settings name is needed too.
    expect(names(copied(RECIPE, ["bay"], true))).toEqual(["pull", "grey", "core", "bay"]);
    // Several together, in their order, each once; what is no step is left out.
    expect(names(copied(RECIPE, ["core", "grey", "moth"], true))).toEqual(["pull", "grey", "core"]);
    expect(names(copied(RECIPE, ["core", "grey"], false))).toEqual(["grey", "core"]);
    expect(copied(RECIPE, ["moth"], true)).toBeNull();
    expect(stepsIn(copied(RECIPE, ["core"], false)!)![0]!.set).toEqual(RECIPE.steps![2]!.set);
  });

  it("are pasted under free names, joined among themselves", () => {
    const [twice, last] = insertSteps(RECIPE, stepsIn(copied(RECIPE, ["core"], true)!)!, "bay");
    expect(twice.steps!.map((step) => step.name)).toEqual([
      "pull",
      "grey",
      "core",
      "bay",
      "pull_2",
      "core_2",
    ]);
    expect(last).toBe("core_2");
    expect(twice.steps![5]!.in).toEqual({ from: "pull_2" });
    // Alone it hangs on what it hung on.
    const [again] = insertSteps(RECIPE, stepsIn(copied(RECIPE, ["core"], false)!)!, "core");
    expect(again.steps!.find((step) => step.name === "core_2")!.in).toEqual({ from: "pull" });
  });

  it("ask for what another shot lacks, and take what is given instead", () => {
    const other: Recipe = { nexal: 1, sources: { leaf: { files: "l.exr" } }, steps: [] };
    const steps = stepsIn(copied(RECIPE, ["bay"], true)!)!;
    expect(lacking(other, steps)).toEqual(["moth", "house"]);
    expect(lacking(RECIPE, steps)).toEqual([]);
    const made = insertNamed(other, steps, null, { moth: "leaf", house: "" })[0].steps!;
    expect(made[0]!.in).toEqual({ a: "leaf.G", b: "leaf.R" });
    expect(made[1]!.in).toEqual({ from: "house" });
    expect(made.map((step) => step.name)).toEqual(["pull", "grey", "core", "bay"]);
  });

  it("are not confused with items of the recipe that have their names", () => {
    const steps: Step[] = [
      { name: "pull", op: "invert", in: { from: "plate" } },
      { name: "soft", op: "blur", in: { from: "pull" } },
      { name: "cut", op: "attach_alpha", in: { picture: "frond.G", alpha: "soft" } },
    ];
    const instead = { plate: "pull", frond: "moth.R" };
    const [made, last, names] = insertNamed(RECIPE, steps, null, instead);
    expect(made.steps!.slice(-3).map((step) => step.in)).toEqual([
      { from: "pull" },
      { from: "pull_2" },
      { picture: "moth.R", alpha: "soft" },
    ]);
    expect([last, names.get("pull")]).toEqual(["cut", "pull_2"]);
    expect(fedFrom(steps)).toEqual(["plate", "frond"]);
    const first: [string, string][] = [["pull", "black"]];
    const chain = { id: 1, name: "glow", about: "", author: "", changed: "", steps, first };
    expect(putToUse(RECIPE, { steps, chain, instead }, null)[2]).toEqual({
      name: "glow",
      steps: ["pull_2", "soft", "cut"],
      first: [["pull_2", "black"]],
    });
  });

  it("are told from anything else that a clipboard may hold", () => {
    for (const text of [
      "",
      "a line of text",
      "{",
      "[1]",
      '{"nexal": 2, "steps": [{"name": "a", "op": "b"}]}',
      '{"nexal": 1, "steps": []}',
      '{"nexal": 1, "steps": [{"name": 1, "op": "b"}]}',
      '{"nexal": 1, "steps": [{"name": "a", "op": "b", "in": {"x": 3}}]}',
      '{"nexal": 1, "steps": [{"name": "a", "op": "b", "in": "x"}]}',
      `{"nexal": 1, "steps": [${Array(501).fill('{"name": "a", "op": "b"}').join()}]}`,
    ])
      expect(stepsIn(text), text.slice(0, 60)).toBeNull();
  });
});
