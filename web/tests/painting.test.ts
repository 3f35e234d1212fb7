import { describe, expect, it } from "vitest";

import { HALF_VALUES, decode, encode } from "@/stage/halves";
import { type Look, type Planes, alphaOf, ownColour, paint, removed, unlike } from "@/stage/painting";

/** The half float nearest to a value. */
function half(value: number): number {
  let best = 0;
  for (let bits = 0; bits < 0x7c00; bits++)
    if (Math.abs(HALF_VALUES[bits]! - value) < Math.abs(HALF_VALUES[best]! - value)) best = bits;
  return best;
}

const code = (light: number) => Math.round(255 * encode(light));

/** One pixel of the given channels. */
function pixel(values: Record<string, number>, more: Partial<Planes> = {}): Planes {
  const channels = Object.keys(values);
  return {
    channels,
    data: channels.map((name) => name.split(".").pop() === "A"),
    alpha: "none",
    region: [0, 0, 1, 1],
    scale: 1,
    display: [0, 0, 1, 1],
    digest: "",
    ranges: channels.map(() => null),
    finished: false,
    samples: Object.values(values).map((value) => Uint16Array.of(half(value))),
    ...more,
  };
}

const look = (backing: Look["backing"], exposure = 0): Look => ({ backing, exposure });
const black: Look["backing"] = { kind: "colour", rgb: [0, 0, 0] };
const bytes = (planes: Planes, how: Look) => [...paint(planes, how)].slice(0, 3);

describe("a picture over its backing", () => {
  it("mixes straight and premultiplied colour to the same light", () => {
    const straight = pixel({ R: 0.8, G: 0.4, B: 0.2, A: 0.5 }, { alpha: "straight" });
    const multiplied = pixel({ R: 0.4, G: 0.2, B: 0.1, A: 0.5 }, { alpha: "premultiplied" });
    const white: Look["backing"] = { kind: "colour", rgb: [1, 1, 1] };
    const wanted = [0.4, 0.2, 0.1].map((light) => code(light + 0.5));
    for (const planes of [straight, multiplied])
      bytes(planes, look(white)).forEach((byte, c) => expect(Math.abs(byte - wanted[c]!)).toBeLessThan(2));
  });

  it("lies over another item in that item's own alpha state", () => {
    const clear = pixel({ R: 0, G: 0, B: 0, A: 0 }, { alpha: "straight" });
    for (const [state, light] of [
      ["straight", 0.8],
      ["premultiplied", 0.4],
      ["none", 0.4],
    ] as const) {
      const behind = pixel({ R: light, G: light, B: light, A: 0.5 }, { alpha: state });
      const seen = bytes(clear, look({ kind: "planes", planes: behind }));
      seen.forEach((byte) => expect(Math.abs(byte - code(0.4)), state).toBeLessThan(2));
    }
  });

  it("takes grey for all three channels, never its alpha", () => {
    const grey = pixel({ Y: 0.5, A: 1 }, { alpha: "straight" });
    expect(new Set(bytes(grey, look(black)))).toEqual(new Set([code(0.5)]));
    const clear = pixel({ R: 0, G: 0, B: 0, A: 0 }, { alpha: "straight" });
    const behind = pixel({ Y: 0.5, A: 1 }, { alpha: "straight" });
    expect(new Set(bytes(clear, look({ kind: "planes", planes: behind })))).toEqual(new Set([code(0.5)]));
    expect(alphaOf(pixel({ Y: 0.5, alpha: 1 }))).toBe(1);
    expect(alphaOf(pixel({ A: 1 }))).toBe(-1);
  });

  it("shows packed data with an alpha as its codes", () => {
    const packed = pixel(
      { R: 0.5, G: 0.25, B: 1, A: 1 },
      { alpha: "straight", data: [true, true, true, true] },
    );
    expect(bytes(packed, look(black))).toEqual([128, 64, 255]);
    expect(bytes(packed, look({ kind: "none" }))).toEqual([128, 64, 255]);
  });

  it("shows a matte behind as the grey that it is", () => {
    const clear = pixel({ R: 0, G: 0, B: 0, A: 0 }, { alpha: "straight" });
    const matte = pixel({ Y: 0.5 }, { data: [true] });
    expect(bytes(clear, look({ kind: "planes", planes: matte }))).toEqual([128, 128, 128]);
  });

  it("keeps hidden colour hidden, whatever it is", () => {
    const odd = pixel({ R: 1, G: 1, B: 1, A: 0 }, { alpha: "straight" });
    odd.samples[0] = Uint16Array.of(0x7e00);
    odd.samples[1] = Uint16Array.of(0x7c00);
    expect(bytes(odd, look(black))).toEqual([0, 0, 0]);
  });
});

describe("a lone plane", () => {
  it("is shown through its range, colour through the display curve", () => {
    const depth = pixel({ Z: 15 }, { data: [true], ranges: [[10, 20]] });
    expect(bytes(depth, look({ kind: "none" }))).toEqual([128, 128, 128]);
    expect(bytes(pixel({ R: 0.25 }), look({ kind: "none" }, 1))).toEqual([code(0.5), code(0.5), code(0.5)]);
    const tinted = bytes(pixel({ R: 1 }), { ...look({ kind: "none" }), tint: ownColour("key.R")! });
    expect(tinted[0]).toBeGreaterThan(tinted[1]!);
  });
});

describe("overlays", () => {
  it("cover what a matte removes", () => {
    expect([...removed(pixel({ Y: 0.25 }, { data: [true] }))]).toEqual([255, 255, 255, 191]);
  });

  it("are in a colour that the picture, and not its alpha, is without", () => {
    const [r, g, b] = unlike(pixel({ R: 0.9, G: 0.1, B: 0.1, A: 1 }));
    expect(r).toBeLessThan(Math.min(g, b));
    expect(decode(encode(0.3))).toBeCloseTo(0.3, 5);
  });
});
