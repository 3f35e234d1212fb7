import { describe, expect, it } from "vitest";

import type { Item, OperationRow } from "@/api/client";
import { type Recipe, insertAfter } from "@/api/recipe";
import { newStep } from "@/lineage/feeding";

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
