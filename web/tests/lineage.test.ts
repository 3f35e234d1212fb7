import { readFileSync } from "node:fs";

import { describe, expect, it } from "vitest";

import { asName } from "@/api/names";
import { type Recipe, type Step, move, neighbourOf, placesFor, stepsOf } from "@/api/recipe";
import { WORDS, meantBy, wayTo } from "@/lineage/words";

const step = (name: string, from?: string): Step => ({ name, op: "blur", ...(from ? { in: { from } } : {}) });
const recipe: Recipe = {
  nexal: 1,
  sources: { moth: { files: "m.exr" } },
  steps: [step("a", "moth"), step("b", "a.R"), step("free", "moth"), step("c", "b")],
};
const order = (changed: Recipe) => stepsOf(changed).map((each) => each.name);

describe("what a step hangs on", () => {
  it("is never passed when it is moved", () => {
    expect(placesFor(recipe, "b")).toEqual({ first: 1, last: 2, by: ["a", "c"] });
    expect(order(move(recipe, "b", 0))).toEqual(["a", "b", "free", "c"]);
    expect(order(move(recipe, "b", 9))).toEqual(["a", "free", "b", "c"]);
    expect(order(move(recipe, "free", 0))).toEqual(["free", "a", "b", "c"]);
    expect(order(move(recipe, "free", 9))).toEqual(["a", "b", "c", "free"]);
  });
  it("is found inside of settings too", () => {
    const set = { to: { R: { from: "free.Y" } } };
    const routed: Recipe = { ...recipe, steps: [...stepsOf(recipe), { name: "r", op: "route", set }] };
    expect(placesFor(routed, "free").last).toBe(3);
    expect(order(move(routed, "r", 0))).toEqual(["a", "b", "free", "r", "c"]);
  });
});

describe("what comes into focus when an item goes", () => {
  it("is its neighbour on the left, else on the right, else a source", () => {
    expect(neighbourOf(recipe, "c")).toBe("free");
    expect(neighbourOf(recipe, "a")).toBe("b");
    expect(neighbourOf({ ...recipe, steps: [step("a")] }, "a")).toBe("moth");
    expect(neighbourOf({ nexal: 1, steps: [step("a")] }, "a")).toBeNull();
    expect(neighbourOf(recipe, "moth")).toBe("a");
  });
});

describe("names as they are typed", () => {
  it("become what a name may be", () => {
    const typed = { "My Leaf": "my_leaf", Möth: "moth", "2nd try": "nd_try", "a--b": "a_b", "": "", 月: "" };
    for (const [given, wanted] of Object.entries(typed)) expect(asName(given)).toBe(wanted);
    expect(asName("x".repeat(90))).toHaveLength(63);
  });
});

describe("the words that people bring", () => {
  const operations = [...readFileSync("../docs/operations.md", "utf8").matchAll(/^## (\w+)/gm)].map(
    (found) => found[1]!,
  );
  it("are many, and each leads to steps that there are or to a way", () => {
    expect(operations.length).toBeGreaterThan(35);
    expect(WORDS.length).toBeGreaterThanOrEqual(180);
    for (const word of WORDS) {
      const meant = meantBy(word);
      expect(meant.length > 0 || wayTo(word) !== null, word).toBe(true);
      for (const name of meant) expect(operations, `${word} means ${name}`).toContain(name);
    }
  });
  it("lead to the nearest step first, also half typed or in the plural", () => {
    const first = { levels: "stretch", gamma: "grade", brightness: "grade", choke: "grow", swap: "route" };
    const more = {
      transform: "place",
      key: "screen_pull",
      spill: "despill",
      edge: "edge_melt",
      expand: "grow",
    };
    for (const [word, wanted] of Object.entries({ ...first, ...more })) expect(meantBy(word)[0]).toBe(wanted);
    expect(meantBy("satur")[0]).toBe("grade");
    expect(meantBy("masks")).toContain("shape");
    for (const [word, wanted] of [
      ["flip", "mirror"],
      ["crop", "cut_window"],
      ["sharpen", "sharpen"],
      ["fit", "fit_to"],
      ["copy", "copy_channel"],
    ] as const)
      expect(meantBy(word)[0]).toBe(wanted);
    expect(wayTo("copy")).toContain("C copies it");
    expect(meantBy("xylophone")).toEqual([]);
    expect(meantBy("")).toEqual([]);
  });
});
