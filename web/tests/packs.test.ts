import { describe, expect, it } from "vitest";

import type { Item } from "@/api/client";
import { type Recipe, findStep } from "@/api/recipe";
import {
  above,
  barsOf,
  baseFor,
  baysOf,
  colouredOf,
  missingMeanings,
  movedBar,
  packOf,
  previewed,
  verbOf,
  withBar,
  withBarOn,
} from "@/benches/packing/packs";

const RECIPE: Recipe = {
  nexal: 1,
  sources: { tin: { files: "tin.png" }, occlusion: { files: "o.png" } },
  steps: [
    { name: "r_bay", op: "bay", set: { layers: [{ from: "occlusion" }] } },
    { name: "g_bay", op: "bay", set: { base: 0.9 } },
    { name: "one", op: "pack", in: { r: "r_bay", g: "g_bay", b: "tin.B" }, set: { meanings: meanings() } },
    { name: "two", op: "pack", in: { g: "g_bay" } },
  ],
};

function meanings() {
  return { r: { meaning: "occlusion" }, g: { meaning: "roughness", inverted: true } };
}

const pack = (name: string) => findStep(RECIPE, name)!;

describe("textures and their bays", () => {
  it("a texture is the item itself, one that it goes into, the one looked at before, or the last", () => {
    expect(packOf(RECIPE, "one", "two")?.name).toBe("one");
    expect(packOf(RECIPE, "r_bay", "two")?.name).toBe("one");
    expect(packOf(RECIPE, "g_bay", "two")?.name).toBe("two");
    expect(packOf(RECIPE, "tin", "one")?.name).toBe("one");
    expect(packOf(RECIPE, null, null)?.name).toBe("two");
  });

  it("a bay is what feeds a channel; a channel may be fed from anything, and be left out", () => {
    expect(
      baysOf(RECIPE, pack("one")).map(({ channel, step, meaning, inverted }) => [
        channel,
        step?.name,
        meaning,
        inverted,
      ]),
    ).toEqual([
      ["R", "r_bay", "occlusion", false],
      ["G", "g_bay", "roughness", true],
      ["B", undefined, "", false],
    ]);
    expect(baysOf(RECIPE, pack("two"))).toHaveLength(1);
    const finish = { name: "x", title: "X", values: { roughness: 0.4, metallic: 1 } };
    expect(missingMeanings(RECIPE, pack("one"), finish as never)).toEqual(["metallic"]);
  });
});

describe("bars", () => {
  it("are laid on top, changed, and lose what is not set", () => {
    const laid = withBarOn(RECIPE, "r_bay", { value: 0.2, mask: "tin.R" });
    expect(barsOf(findStep(laid, "r_bay")!)).toEqual([{ from: "occlusion" }, { value: 0.2, mask: "tin.R" }]);
    expect(findStep(laid, "r_bay")!.set!.fit).toBe("scale");
    const changed = withBar(laid, "r_bay", 1, { mask: undefined, opacity: 0.5 });
    expect(barsOf(findStep(changed, "r_bay")!)[1]).toEqual({ value: 0.2, opacity: 0.5 });
  });

  it("are moved in their order", () => {
    const bars = [{ value: 0 }, { value: 1 }, { value: 2 }];
    expect(movedBar(bars, 0, 2).map((bar) => bar.value)).toEqual([1, 2, 0]);
    expect(movedBar(bars, 2, 0).map((bar) => bar.value)).toEqual([2, 0, 1]);
  });

  it("say what they do", () => {
    expect(verbOf({ from: "a" }, 0)).toBe("kept");
    expect(verbOf({ from: "a", opacity: 0.5 }, 0)).toBe("laid in");
    expect(verbOf({ value: 0.2, mask: "m" }, 0.5)).toBe("cuts to");
    expect(verbOf({ value: 0.8, mask: "m" }, 0.5)).toBe("lays in");
  });
});

describe("what is seen of them", () => {
  const item = (name: string, channels: string[], data: string[] = []) =>
    ({ name, channels, data, plane: channels.length === 1 }) as unknown as Item;
  const items = [
    item("tin", ["R", "G", "B"]),
    item("occlusion", ["Y"], ["Y"]),
    item("one", ["R", "G", "B"], ["R", "G", "B"]),
  ];

  it("only colour can paint the object", () => {
    expect(colouredOf(items)).toEqual(["tin"]);
    expect(baseFor(RECIPE, items, undefined)).toBe("tin");
    expect(baseFor(RECIPE, items, null)).toBeNull();
    expect(baseFor(RECIPE, items, "one")).toBeNull();
    expect(above(items, "one").map((entry) => entry.name)).toEqual(["tin", "occlusion"]);
  });

  it("a preview is one more step, which the recipe itself never gets", () => {
    const [recipe, name] = previewed(RECIPE, "one", "mip", 2);
    expect(findStep(recipe, name)).toEqual({
      name: "mip_2",
      op: "mip",
      in: { from: "one" },
      set: { level: 2 },
    });
    expect(findStep(RECIPE, name)).toBeUndefined();
  });
});
