import { describe, expect, it } from "vitest";

import type { Item } from "@/api/client";
import type { Recipe } from "@/api/recipe";
import { proposalsFor } from "@/deliver/proposals";
import { channelsOf } from "@/deliver/rendering";

const RECIPE: Recipe = {
  nexal: 1,
  sources: { moth: { files: "m.exr" } },
  steps: [
    { name: "matte", op: "stretch", in: { from: "moth.G" } },
    { name: "later", op: "invert", in: { from: "matte" } },
    { name: "cut", op: "attach_alpha", in: { picture: "moth", alpha: "matte" } },
    { name: "graded", op: "grade", in: { picture: "moth" } },
    { name: "tin", op: "pack", in: { r: "later", g: "matte" } },
  ],
};
const item = (name: string, more: Partial<Item> = {}): Item =>
  ({ name, alpha: "none", plane: false, channels: ["R", "G", "B"], inputs: [], ...more }) as Item;
const ITEMS = [
  item("moth"),
  item("matte", { plane: true }),
  item("later", { plane: true }),
  item("cut", { alpha: "straight" }),
  item("graded"),
  item("tin", { alpha: "straight" }),
];
const told = (items: Item[], recipe = RECIPE) =>
  proposalsFor(recipe, items).map((found) => `${found.kind} ${found.from}`);

describe("what a shot most likely gives away", () => {
  it("is the last of its kind: texture, picture with alpha, and what became of the plane that is a matte", () => {
    expect(told(ITEMS)).toEqual(["texture tin", "picture cut", "matte later"]);
    // A touch-up of the matte, though nothing takes it yet; not a plane that is made of something else.
    const steps = [
      ...RECIPE.steps!.slice(0, 1),
      { name: "touch_up", op: "touch_up", in: { matte: "matte" } },
      { name: "cut", op: "attach_alpha", in: { picture: "moth", alpha: "matte" } },
      { name: "grains", op: "noise", in: { like: "moth" } },
    ];
    const items = [...ITEMS, item("touch_up", { plane: true }), item("grains", { plane: true })];
    expect(told(items, { ...RECIPE, steps })).toEqual(["picture cut", "matte touch_up"]);
  });

  it("has no fault and is not off", () => {
    const problem = { code: "recipe", message: "", where: "", remedy: "", also: [] };
    const faulty = ITEMS.map((each) => (each.name === "cut" ? { ...each, problem } : each));
    expect(told(faulty)).toEqual(["texture tin", "matte later"]);
    const off = RECIPE.steps!.map((step) => (step.name === "tin" ? { ...step, on: false } : step));
    expect(told(ITEMS, { ...RECIPE, steps: off })).toEqual(["picture cut", "matte later"]);
  });

  it("is the last step where nothing else is, or the picture itself, or nothing", () => {
    const graded = { ...RECIPE, steps: [RECIPE.steps![3]!] };
    expect(told([ITEMS[0]!, ITEMS[4]!], graded)).toEqual(["picture graded"]);
    expect(told([ITEMS[0]!], { ...RECIPE, steps: [] })).toEqual(["picture moth"]);
    expect(told([], { nexal: 1 })).toEqual([]);
  });
});

describe("what is put into a file with others", () => {
  const items = [
    item("grade", { channels: ["R", "G", "B", "A"], alpha: "premultiplied" }),
    item("matte", { plane: true, channels: ["Y"] }),
    item("render", { channels: ["R", "G", "B", "key.R", "key.G", "key.B", "P.X", "P.Y", "P.Z", "depth.Z"] }),
  ];
  const of = (address: string, there: [string, string][] = []) => channelsOf(address, items, there);

  it("of a picture is its colour and alpha under its name, never one channel of it", () => {
    expect(of("grade")).toEqual(["R", "G", "B", "A"].map((last) => [`grade.${last}`, `grade.${last}`]));
    expect(of("render")).toEqual(["R", "G", "B"].map((last) => [`render.${last}`, `render.${last}`]));
    expect(of("render.key")).toEqual(
      ["R", "G", "B"].map((last) => [`render_key.${last}`, `render.key.${last}`]),
    );
    expect(of("render.P")).toEqual(["X", "Y", "Z"].map((last) => [`render_P.${last}`, `render.P.${last}`]));
  });

  it("of a channel or a matte is itself, under a name that is free", () => {
    expect(of("matte", [["matte", "other"]])).toEqual([["matte_2", "matte"]]);
    expect(of("render.depth.Z")).toEqual([["render_depth_Z", "render.depth.Z"]]);
    expect(of("grade", [["grade.R", "x.R"]]).map(([name]) => name)).toEqual([
      "grade_2.R",
      "grade_2.G",
      "grade_2.B",
      "grade_2.A",
    ]);
  });
});
