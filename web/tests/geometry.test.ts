import { describe, expect, it } from "vitest";

import { scaleFor } from "@/stage/geometry";

describe("the scale that a picture is fetched at", () => {
  it("has a sample for each device pixel, and a quarter of them while something is dragged", () => {
    expect([2, 1, 0.9, 0.5, 0.3, 0.25, 0.1].map((zoom) => scaleFor(zoom, 1))).toEqual([1, 1, 1, 2, 2, 4, 8]);
    expect([0.9, 0.5, 0.3, 0.25, 0.1].map((zoom) => scaleFor(zoom, 1, true))).toEqual([2, 4, 4, 8, 8]);
    expect(scaleFor(0.25, 2)).toBe(2);
  });

  it("is never coarser than the picture where its pixels are looked at", () => {
    expect([1, 1.5, 8].map((zoom) => scaleFor(zoom, 1, true))).toEqual([1, 1, 1]);
    expect(scaleFor(0.5, 2, true)).toBe(1);
  });
});
