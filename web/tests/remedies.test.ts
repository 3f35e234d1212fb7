import { readFileSync, readdirSync } from "node:fs";
import { fileURLToPath } from "node:url";

import { describe, expect, it } from "vitest";

import type { Recipe } from "@/api/recipe";
import { meantFor, remedied } from "@/steps/remedies";

const RECIPE: Recipe = {
  nexal: 1,
  sources: { moth: { files: "m.exr" }, tin: { files: "t.png", colour: "auto" } },
  steps: [
    { name: "pull", op: "cross", in: { a: "moth.G", b: "moth.R" } },
    { name: "cut", op: "attach_alpha", in: { picture: "moth", alpha: "pull" } },
  ],
};
const step = (recipe: Recipe, name: string) => recipe.steps!.find((each) => each.name === name);
const names = (recipe: Recipe) => recipe.steps!.map((each) => each.name);

describe("remedies", () => {
  it("put steps behind the item", () => {
    const invert = { name: "turned", op: "invert", in: { from: "pull" } };
    const [after, focus] = remedied(RECIPE, "pull", { label: "", kind: "insert", does: { steps: [invert] } });
    expect([names(after), focus]).toEqual([["pull", "turned", "cut"], "turned"]);
  });

  it("change only what they were worked out for, however it is written", () => {
    const turned = { name: "turned", op: "invert", in: { from: "pull" } };
    const remedy = { label: "", kind: "insert", does: { steps: [turned] } };
    const mend = meantFor(RECIPE, "pull", (before) => remedied(before, "pull", remedy));
    const [pull, cut] = RECIPE.steps!;
    const written = {
      nexal: 1,
      steps: [{ in: pull!.in!, op: pull!.op, name: "pull" }, cut!],
      sources: RECIPE.sources!,
    } as Recipe;
    const [after, focus] = mend(written);
    expect([names(after), focus]).toEqual([["pull", "turned", "cut"], "turned"]);
    expect(mend(after)).toEqual([after, "pull"]);
    const since: Recipe = { ...RECIPE, at: 7 };
    expect(mend(since)[0]).toBe(since);
  });

  it("feed a port from steps put above", () => {
    const grade = { name: "clean", op: "despill", in: { picture: "moth" } };
    const remedy = {
      label: "",
      kind: "feed",
      does: { steps: [grade], feed: { port: "picture", address: "clean" } },
    };
    const [after, focus] = remedied(RECIPE, "cut", remedy);
    expect([names(after), step(after, "cut")!.in!.picture, focus]).toEqual([
      ["pull", "clean", "cut"],
      "clean",
      "cut",
    ]);
    const plain = { label: "", kind: "feed", does: { feed: { port: "alpha", address: "moth.B" } } };
    expect(step(remedied(RECIPE, "cut", plain)[0], "cut")!.in!.alpha).toBe("moth.B");
  });

  it("stand in the place of what a step was fed from", () => {
    const turned = { name: "turned", op: "invert", in: { from: "pull" } };
    const remedy = { label: "", kind: "instead", does: { steps: [turned], instead: "pull" } };
    expect(step(remedied(RECIPE, "cut", remedy)[0], "cut")!.in).toEqual({ picture: "moth", alpha: "turned" });
  });

  it("take something out below a step and lay it back above, for all that use it", () => {
    const recipe: Recipe = {
      ...RECIPE,
      steps: [
        { name: "lit", op: "stack", in: { under: "moth", over: "tin" } },
        { name: "lens", op: "defocus", in: { picture: "lit", depth: "moth.Z" } },
        { name: "shown", op: "grade", in: { picture: "lens", matte: "lens.A" } },
      ],
    };
    const back = { name: "lit_after", op: "stack", in: { under: "lens", over: "tin" } };
    const does = { lay_back: { port: "picture", address: "moth" }, steps: [back] };
    const [after, focus] = remedied(recipe, "lens", { label: "", kind: "lay_back", does });
    expect([names(after), focus]).toEqual([["lit", "lens", "lit_after", "shown"], "lit_after"]);
    expect(step(after, "lens")!.in).toEqual({ picture: "moth", depth: "moth.Z" });
    expect(step(after, "lit_after")!.in).toEqual(back.in);
    expect(step(after, "shown")!.in).toEqual({ picture: "lit_after", matte: "lit_after.A" });
  });

  it("change steps and how sources are read", () => {
    const change = { label: "", kind: "change", does: { change: { pull: { set: { mode: "darken" } } } } };
    expect(step(remedied(RECIPE, "cut", change)[0], "pull")!.set).toEqual({ mode: "darken" });
    const replace = { label: "", kind: "replace", does: { replace: { on: false } } };
    expect(step(remedied(RECIPE, "cut", replace)[0], "cut")!.on).toBe(false);
    const read = remedied(RECIPE, "cut", { label: "", kind: "read", does: { read: { tin: "data" } } })[0];
    expect(read.sources!.tin).toEqual({ files: "t.png", colour: "data" });
    const alpha = remedied(RECIPE, "cut", {
      label: "",
      kind: "read_alpha",
      does: { read_alpha: { moth: "straight" } },
    })[0];
    expect(alpha.sources!.moth).toEqual({ files: "m.exr", read_alpha: "straight" });
  });

  it("leave the recipe alone where nobody knows their kind", () => {
    expect(remedied(RECIPE, "cut", { label: "", kind: "unheard_of", does: {} })).toEqual([RECIPE, "cut"]);
  });

  it("are known in the browser, whatever kind a check of the core has", () => {
    const folder = fileURLToPath(new URL("../../core/nexal/analysis/", import.meta.url));
    const told = readdirSync(folder)
      .filter((file) => file.endsWith(".py"))
      .flatMap((file) => [...readFileSync(folder + file, "utf8").matchAll(/^remedy_kind\("(\w+)"/gm)])
      .map((match) => match[1]!);
    expect(told.length).toBeGreaterThan(5);
    const known = readFileSync(fileURLToPath(new URL("../src/steps/remedies.ts", import.meta.url)), "utf8");
    for (const kind of told) expect(known).toContain(`registerRemedy("${kind}"`);
  });
});
