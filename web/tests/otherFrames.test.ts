import { describe, expect, it } from "vitest";

import type { Recipe } from "@/api/recipe";
import { filmedBy, holdColours, joinFrames, spread } from "@/benches/mattes/otherFrames";

const RECIPE: Recipe = {
  nexal: 1,
  sources: {
    moth: { files: "m.####.exr", offset: -1000, before: "error" },
    moth_at_4: { files: "other.exr" },
  },
  steps: [
    { name: "quiet", op: "denoise", in: { picture: "moth" } },
    { name: "plate", op: "screen_plate", in: { picture: "moth" } },
    { name: "matte", op: "screen_solve", in: { picture: "moth", clean: "plate" } },
    { name: "again", op: "screen_solve", in: { picture: "quiet" } },
  ],
};
const step = (name: string) => RECIPE.steps!.find((each) => each.name === name)!;

describe("other frames", () => {
  it("are had of pictures that were filmed, and of nothing that was made", () => {
    expect(filmedBy(RECIPE, step("matte"))).toBe("moth");
    expect(filmedBy(RECIPE, step("again"))).toBeNull();
    expect(holdColours(RECIPE, "again", 3)).toBe(RECIPE);
  });

  it("stand still as sources of their own, under names that are free", () => {
    const held = holdColours(RECIPE, "matte", 4);
    expect(held.sources!.moth_at_4_2).toEqual({
      files: "m.####.exr",
      offset: -1000,
      first: 1004,
      last: 1004,
    });
    expect(held.steps![2]!.in).toEqual({ picture: "moth", clean: "plate", held: "moth_at_4_2" });
    const again = holdColours(holdColours(RECIPE, "matte", 7), "matte", 7);
    expect(Object.keys(again.sources!)).toEqual(["moth", "moth_at_4", "moth_at_7"]);
    expect(Object.keys(holdColours(RECIPE, "matte", -2).sources!)).toContain("moth_at_minus_2");
  });

  it("are joined, some of them, spread over the range", () => {
    expect(spread([1, 10], 1)).toEqual([4, 7, 10]);
    expect(spread([1, 10], 6)).toEqual([1, 4, 10]);
    expect(spread([1, 2], 1)).toEqual([2]);
    const joined = joinFrames(RECIPE, "plate", [1, 9]);
    expect(joined.steps![1]!.in).toEqual({ picture: "moth", others: ["moth_at_1", "moth_at_9"] });
  });
});
