import { describe, expect, it } from "vitest";

import { coverageWords } from "@/stage/coverage";
import type { Planes } from "@/stage/painting";

const [ZERO, HALF, ONE, TWO] = [0, 0x3800, 0x3c00, 0x4000];
const planes = (more: Partial<Planes>): Planes => ({
  channels: ["Y"],
  data: [false],
  alpha: "none",
  region: [0, 0, 4, 1],
  scale: 2,
  display: [0, 0, 8, 2],
  digest: "",
  ranges: [null],
  finished: false,
  samples: [Uint16Array.of(ZERO, HALF, ONE, HALF)],
  ...more,
});

describe("what a picture covers, in words", () => {
  it("is the share of the whole display window", () => {
    expect(coverageWords(planes({}))).toBe("50 % covered");
    expect(coverageWords(planes({ display: [0, 0, 16, 2] }))).toBe("25 % covered");
  });

  it("is of the alpha where there is one", () => {
    const colour = Uint16Array.of(TWO, TWO, TWO, TWO);
    const more = {
      channels: ["R", "A"],
      ranges: [null, null],
      samples: [colour, Uint16Array.of(ONE, ONE, ONE, ZERO)],
    };
    expect(coverageWords(planes(more))).toBe("75 % covered");
  });

  it("is the same of bytes that stand for it", () => {
    const bytes = { exposure: 0, halves: [Uint16Array.of(ZERO, HALF, ONE)] };
    expect(coverageWords(planes({ bytes, samples: [Uint8Array.of(0, 1, 2, 1)] }))).toBe("50 % covered");
  });

  it("is nothing of what is no matte", () => {
    expect(coverageWords(planes({ ranges: [[0, 9]] }))).toBe("");
    expect(coverageWords(planes({ samples: [Uint16Array.of(ZERO, TWO, ONE, ONE)] }))).toBe("");
    expect(coverageWords(planes({ channels: ["R"] }))).toBe("");
    expect(coverageWords(planes({ channels: ["R", "G"], samples: [] }))).toBe("");
    expect(coverageWords(undefined)).toBe("");
  });
});
