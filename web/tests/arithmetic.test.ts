import { describe, expect, it } from "vitest";

import { calculated, isCalculation } from "@/parts/arithmetic";

const value = (text: string, present = 4) => {
  const result = calculated(text, present);
  return "value" in result ? result.value : result.fault;
};

describe("a number that is typed", () => {
  it("may be a calculation", () => {
    for (const [text, wanted] of [
      ["1/3", 1 / 3],
      ["0.5+0.1", 0.6],
      ["0,5", 0.5],
      [" .25 ", 0.25],
      ["1e-3", 0.001],
      ["50%", 0.5],
      ["50%*2", 1],
      ["2^0.5", Math.SQRT2],
      ["2**3^2", 512],
      ["-2^2", -4],
      ["(1+2)*3-4/2", 7],
      ["1-2-3", -4],
      ["8/4/2", 1],
      ["-0.5", -0.5],
      ["2*-3", -6],
    ] as const)
      expect(value(text), text).toBeCloseTo(wanted, 12);
  });

  it("acts on the present value where it begins with a sign of calculation", () => {
    expect([value("+0.02"), value("*1.5"), value("/2"), value("^2"), value("**0.5"), value("--0.5")]).toEqual(
      [4.02, 6, 2, 16, 2, 3.5],
    );
    // A single minus is a sign; precedence holds for what follows.
    expect([value("-1"), value("*2+1"), value("+1*3"), value("--1-1")]).toEqual([-1, 9, 7, 2]);
  });

  it("that can't be read says why, and is never a number", () => {
    for (const text of ["", "  ", "abc", "1+", "(1", "1)", "1 2", "1..2", "$5", "1e", "2x", "*"])
      expect(value(text), text).toBe("can't be read as a number");
    expect([value("1/0"), value("/(1-1)"), value("10^400"), value("(-1)^0.5")]).toEqual([
      "division by zero",
      "division by zero",
      "is not finite",
      "is not finite",
    ]);
  });

  it("is shown with its result where it is more than a number", () => {
    expect(["1/3", "+1", "50%", "--1"].map(isCalculation)).toEqual([true, true, true, true]);
    expect(["-1", "0.5", "1e-3", "", "2,5"].map(isCalculation)).toEqual([false, false, false, false, false]);
  });
});
