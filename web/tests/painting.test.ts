import { describe, expect, it } from "vitest";

import { HALF_VALUES, decode, encode } from "@/stage/halves";
import {
  type About,
  type Look,
  type Planes,
  alphaOf,
  ownColour,
  paint,
  planesIn,
  removed,
  unlike,
} from "@/stage/painting";

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

describe("a lone channel", () => {
  it("is as grey as three that are alike, however many pixels it has", () => {
    const halves = Uint16Array.from({ length: 65536 + 300 }, (_, bits) => bits);
    const region: Planes["region"] = [0, 0, halves.length / 4, 4];
    for (const exposure of [0, -1.5]) {
      for (const data of [true, false]) {
        const more = { region, ranges: [[0.25, 2] as [number, number]], data: [data] };
        const one = pixel({ Y: 0 }, { ...more, samples: [halves] });
        const three = pixel(
          { R: 0, G: 0, B: 0 },
          {
            region,
            ranges: [0, 1, 2].map(() => [0.25, 2] as [number, number]),
            data: [data, data, data],
            samples: [halves, halves, halves],
          },
        );
        const seen = paint(three, look(black, exposure));
        expect(paint(one, look(black, exposure)).every((byte, at) => byte === seen[at])).toBe(true);
      }
    }
  });
});

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

  it("is white where it is brighter than that, however far", () => {
    const [infinite, largest] = [0x7c00, 0x7bff];
    for (const alpha of ["straight", "premultiplied"] as const) {
      for (const cover of [half(0.5), half(1), largest]) {
        const bright = pixel({ R: 0, G: 0, B: 0, A: 0 }, { alpha });
        bright.samples.forEach((plane, at) => (plane[0] = [infinite, largest, half(2), cover][at]!));
        expect(bytes(bright, look(black, 6)), `${alpha} ${cover}`).toEqual([255, 255, 255]);
      }
      const clear = pixel({ R: 0, G: 0, B: 0, A: 0 }, { alpha });
      const behind = pixel({ R: 0, G: 0, B: 0 });
      behind.samples.forEach((plane, at) => (plane[0] = [infinite, largest, half(2)][at]!));
      expect(bytes(clear, look({ kind: "planes", planes: behind }))).toEqual([255, 255, 255]);
    }
  });

  it("keeps hidden colour hidden, whatever it is", () => {
    const odd = pixel({ R: 1, G: 1, B: 1, A: 0 }, { alpha: "straight" });
    odd.samples[0] = Uint16Array.of(0x7e00);
    odd.samples[1] = Uint16Array.of(0x7c00);
    expect(bytes(odd, look(black))).toEqual([0, 0, 0]);
  });
});

describe("every pixel of a part, at a scale, over what lies behind it", () => {
  const SIDE = 24;
  /** Planes of a region whose samples are drawn by lot, some of them clear, some no number. */
  const drawn = (region: Planes["region"], scale: number, alpha: Planes["alpha"], seed: number): Planes => {
    let lot = seed;
    const next = () => (lot = (lot * 1103515245 + 12345) % 2147483648) / 2147483648;
    const plane = (odd: number) =>
      Uint16Array.from({ length: region[2] * region[3] }, () =>
        next() < 0.1 ? odd : 0x3000 + Math.floor(next() * 0xc00),
      );
    const about = {
      display: [0, 0, 400, 400],
      digest: "",
      ranges: [null, null, null, null],
      finished: false,
    };
    return {
      ...about,
      channels: ["R", "G", "B", "A"],
      data: [false, false, false, true],
      alpha,
      region,
      scale,
      samples: [plane(0x7e00), plane(0), plane(0x3c00), plane(0)],
    } as unknown as Planes;
  };
  const encodedByte = (light: number) => code(Math.min(1, Math.max(0, light)));

  it.each([
    ["weave", { kind: "weave", cell: 5 }],
    ["colour", { kind: "colour", rgb: [0.2, 0.5, 0.9] }],
    ["straight", { kind: "planes", planes: drawn([3, 0, 40, 30], 1, "straight", 9) }],
    ["premultiplied", { kind: "planes", planes: drawn([0, 2, 15, 13], 4, "premultiplied", 5) }],
  ] as const)("over %s is what the formula says", (_, backing) => {
    for (const state of ["straight", "premultiplied"] as const) {
      const planes = drawn([7, 5, SIDE, SIDE], 2, state, 3);
      const painted = paint(planes, { exposure: 0.5, backing: backing as Look["backing"] });
      const gain = 2 ** 0.5;
      for (let i = 0; i < SIDE * SIDE; i++) {
        const [x, y] = [(7 + (i % SIDE)) * 2, (5 + Math.floor(i / SIDE)) * 2];
        const a = HALF_VALUES[planes.samples[3]![i]!]!;
        for (let c = 0; c < 3; c++) {
          let behind = 0;
          if (backing.kind === "colour") behind = decode(backing.rgb[c]!);
          if (backing.kind === "weave") {
            const across = (Math.floor(x / 5) + Math.floor(y / 5)) % 2 === 0;
            const within = ((across ? y : x) / 5) % 1;
            behind = decode((within < 0.12 || within > 0.88 ? 0x3c : across ? 0x7d : 0x5a) / 255);
          }
          if (backing.kind === "planes") {
            const of = backing.planes;
            const column = Math.floor(x / of.scale) - of.region[0];
            const row = Math.floor(y / of.scale) - of.region[1];
            const there = column >= 0 && row >= 0 && column < of.region[2] && row < of.region[3];
            const at = row * of.region[2] + column;
            const cover = there && of.alpha === "straight" ? HALF_VALUES[of.samples[3]![at]!]! : 1;
            behind = there && cover > 0 ? HALF_VALUES[of.samples[c]![at]!]! * cover * gain : 0;
          }
          const value = HALF_VALUES[planes.samples[c]![i]!]!;
          const light = state === "premultiplied" ? value : a === 0 ? 0 : value * a;
          const wanted = light * gain + (1 - a) * behind;
          const byte = Number.isNaN(wanted) ? 0 : encodedByte(wanted);
          expect(Math.abs(painted[4 * i + c]! - byte), `${state} ${i} ${c}`).toBeLessThan(2);
        }
        expect(painted[4 * i + 3]).toBe(255);
      }
    }
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

describe("planes that came as what is seen of them", () => {
  const ramp = Uint8Array.from({ length: 256 }, (_, byte) => byte);
  const came = (channels: string[], more: Partial<About> = {}) => {
    const bytes = new Uint8Array(channels.length * 256);
    channels.forEach((_, index) => bytes.set(ramp, index * 256));
    const about = pixel(Object.fromEntries(channels.map((name) => [name, 0])));
    return planesIn({ ...about, region: [0, 0, 256, 1], ...more }, bytes.buffer);
  };
  const columns = (planes: Planes, how: Look, c = 0) =>
    [...paint(planes, how)].filter((_, at) => at % 4 === c);

  it("are painted as they came, at any exposure, with and without the halves that stand for them", () => {
    for (const exposure of [-5, -0.5, 0, 1, 4.25]) {
      for (const ends of [null, [0, 2 ** -exposure], [-1, -1 + 2 * 2 ** -exposure]] as const) {
        const range = ends && ([ends[0], ends[0] + (ends[1] - ends[0]) * 2 ** exposure] as [number, number]);
        const planes = came(["Y"], {
          ends: [ends && [...ends]],
          exposure,
          data: [ends !== null],
          ranges: [range],
        });
        expect(columns(planes, look({ kind: "none" }, exposure))).toEqual([...ramp]);
        const [table] = planes.bytes!.halves;
        const halves = { ...planes, samples: [Uint16Array.from(ramp, (byte) => table![byte]!)] };
        delete halves.bytes;
        // Half floats near -1 lie further apart than the codes of a narrow range.
        const within = ends && ends[0] < 0 ? 1 : 0;
        const painted = columns(halves, look({ kind: "none" }, exposure));
        expect(painted.every((byte, at) => Math.abs(byte - at) <= within)).toBe(true);
      }
    }
  });

  it("can be seen at another exposure meanwhile, and in three colours or two", () => {
    const planes = came(["R", "G", "B"], { ends: [null, null, null], exposure: 0 });
    for (const c of [0, 1, 2]) expect(columns(planes, look(black), c)).toEqual([...ramp]);
    const brighter = columns(planes, look(black, 1));
    expect(brighter[60]).toBe(code(2 * decode(60 / 255)));
    expect(columns(planes, look(black), 3).every((opacity) => opacity === 255)).toBe(true);
    const two = came(["X", "Y"], { ends: [null, null], exposure: 0 });
    expect([0, 1, 2].map((c) => columns(two, look(black), c)[90])).toEqual([90, 90, 0]);
  });

  it("lie over what is behind them like the picture that they came of", () => {
    const more = { data: [false, true], alpha: "premultiplied" as const, exposure: 0 };
    const planes = came(["Y", "A"], { ends: [null, [0, 1]], ...more });
    const white: Look["backing"] = { kind: "colour", rgb: [1, 1, 1] };
    const seen = columns(planes, look(white));
    for (const at of [0, 40, 128, 255])
      expect(Math.abs(seen[at]! - code(Math.min(1, decode(at / 255) + 1 - at / 255)))).toBeLessThanOrEqual(1);
  });

  it("are painted in memory of before, of which no more is taken than they need", () => {
    const planes = came(["Y"], { ends: [null], exposure: 0 });
    const memory = new Uint8Array(4096).fill(7);
    const pixels = paint(planes, look(black), memory.buffer);
    expect([pixels.buffer === memory.buffer, pixels.length, memory[1023], memory[1024]]).toEqual([
      true,
      1024,
      255,
      7,
    ]);
  });
});
