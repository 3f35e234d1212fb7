import type { Bytes, Problem } from "@/api/bytes";

import { HALF_VALUES, decode, encode, halfOf } from "./halves";

export type Samples = Uint16Array<ArrayBuffer> | Uint8Array<ArrayBuffer>;

/** Planes as the server sends them, and what they are. */
export interface Planes {
  channels: string[];
  data: boolean[];
  alpha: "none" | "straight" | "premultiplied";
  /** x, y, width, height in pixels of the scale, relative to the display window. */
  region: [number, number, number, number];
  scale: number;
  display: [number, number, number, number];
  digest: string;
  /** Values of data planes that are shown as black and white; 0 to 1 where there is none. */
  ranges: ([number, number] | null)[];
  /** Display values, to be shown as they are: ids as colours, a fringe, evidence. */
  finished: boolean;
  /** Half floats; or bytes of what is seen of each plane. */
  samples: Samples[];
  /** Of planes that came in bytes: the exposure they are seen at, and the halves that they stand for. */
  bytes?: { exposure: number; halves: Uint16Array[] };
  /** What they stand in for roughly, at a scale of their own, until a slow step is computed. */
  pending?: Problem | null;
  /** Milliseconds until it is its asker's turn again; none where that is at once. */
  next?: number;
}

/** What planes are, as an answer's head tells it. */
export interface About extends Omit<Planes, "samples" | "bytes"> {
  /** Of planes that came in bytes: the values that each goes from and to, none along the display curve. */
  ends?: ([number, number] | null)[];
  exposure?: number;
}

export function aboutOf(headers: Headers): About {
  const about = JSON.parse(headers.get("X-Nexal-View") ?? "{}") as About;
  const next = Number(headers.get("X-Nexal-Next"));
  return next ? { ...about, next } : about;
}

/** Planes of an answer, whose head tells what they are. */
export function planesOf({ headers, bytes }: Bytes): Planes {
  return planesIn(aboutOf(headers), bytes);
}

/** Planes from their bytes, one after the other, and what they are. */
export function planesIn({ ends, exposure = 0, ...about }: About, bytes: ArrayBuffer): Planes {
  const count = about.region[2] * about.region[3];
  const samples = about.channels.map((_, index) =>
    ends ? new Uint8Array(bytes, index * count, count) : new Uint16Array(bytes, index * count * 2, count),
  );
  if (!ends) return { ...about, samples };
  return { ...about, samples, bytes: { exposure, halves: ends.map((each) => halvesOf(each, exposure)) } };
}

const HALVES = new Map<string, Uint16Array>();

/** The half float that each byte of a plane stands for: painted at the same exposure, it is that byte again. */
function halvesOf(ends: [number, number] | null, exposure: number): Uint16Array {
  const key = ends ? ends.join() : `${exposure} stops`;
  const known = HALVES.get(key);
  if (known) return known;
  const table = Uint16Array.from({ length: 256 }, (_, code) =>
    halfOf(ends ? ends[0] + ((ends[1] - ends[0]) * code) / 255 : decode(code / 255) / 2 ** exposure),
  );
  if (HALVES.size >= 64) HALVES.clear();
  HALVES.set(key, table);
  return table;
}

export type Backing =
  | { kind: "colour"; rgb: [number, number, number] }
  | { kind: "weave"; cell: number }
  | { kind: "planes"; planes: Planes }
  | { kind: "none" };

export interface Look {
  exposure: number;
  backing: Backing;
  /** What a lone channel is shown in, instead of grey. */
  tint?: [number, number, number];
}

const OWN: Record<string, [number, number, number]> = {
  R: [1, 0.25, 0.22],
  G: [0.25, 1, 0.4],
  B: [0.3, 0.5, 1],
};

/** The colour that a channel named R, G or B can be shown in. */
export function ownColour(channel: string): [number, number, number] | undefined {
  return OWN[channel.split(".").pop() ?? ""];
}

const ALPHA = /(^|\.)(A|a|alpha|Alpha)$/;

/** The place of the alpha among the channels of planes, -1 where there is none beside other channels. */
export function alphaOf(planes: Planes): number {
  return planes.channels.length > 1 ? planes.channels.findIndex((name) => ALPHA.test(name)) : -1;
}

/** The places of what is seen: everything but the alpha. */
function seenOf(planes: Planes): number[] {
  const alpha = alphaOf(planes);
  return planes.channels.flatMap((_, index) => (index === alpha ? [] : [index]));
}

const LIGHT = new Map<string, Float32Array>();

/** Linear light of every half: colour as it is, what is no colour as the light that its grey is seen as. */
function lightTable(data: boolean, range: [number, number]): Float32Array {
  if (!data) return HALF_VALUES;
  const key = range.join();
  const known = LIGHT.get(key);
  if (known) return known;
  const [low, high] = range;
  const table = HALF_VALUES.map((value) => {
    const seen = (value - low) / (high - low);
    return Number.isNaN(seen) ? 0 : decode(Math.min(1, Math.max(0, seen)));
  });
  if (LIGHT.size >= 16) LIGHT.clear();
  LIGHT.set(key, table);
  return table;
}

/** A table for the samples of a plane, of one for every half float. */
function tableOf<T extends Float32Array | Uint8Array>(planes: Planes, at: number, ofHalves: T): T {
  const halves = planes.bytes?.halves[at];
  if (!halves) return ofHalves;
  const table = ofHalves.slice(0, halves.length) as T;
  halves.forEach((bits, byte) => (table[byte] = ofHalves[bits]!));
  return table;
}

/** Samples of a plane, and what each stands for. */
interface Lit {
  samples: Samples;
  table: Float32Array;
}

const litOf = (planes: Planes, at: number, ofHalves: Float32Array): Lit => ({
  samples: planes.samples[at]!,
  table: tableOf(planes, at, ofHalves),
});

/** The samples of a plane as half floats, in memory of their own. */
export function halvesIn(planes: Planes, at: number): Uint16Array<ArrayBuffer> {
  const [samples, halves] = [planes.samples[at]!, planes.bytes?.halves[at]];
  return halves ? Uint16Array.from(samples, (byte) => halves[byte]!) : Uint16Array.from(samples);
}

/** The samples of a plane, and the value of each. */
export const valuesOf = (planes: Planes, at: number) => litOf(planes, at, HALF_VALUES);

/** The light tables of the seen channels, three of them: a grey picture counts thrice, of two the third is dark. */
function lights(planes: Planes): Lit[] {
  const seen = seenOf(planes);
  return [0, 1, 2].map((c) => {
    const at = seen[Math.min(c, seen.length - 1)] ?? 0;
    return litOf(planes, at, lightTable(planes.finished || planes.data[at]!, planes.ranges[at] ?? [0, 1]));
  });
}

const STEPS = 16383;
const ENCODED = new Uint8Array(STEPS + 1);
for (let step = 0; step <= STEPS; step++) ENCODED[step] = Math.round(encode(step / STEPS) * 255);

/** Of what came as it is seen. */
const AS_IT_IS = Uint8Array.from({ length: 256 }, (_, byte) => byte);

const TABLES = new Map<string, Uint8Array>();

/** Byte of every half under an exposure: colour through the display curve, data straight through its range. */
function byteTable(data: boolean, exposure: number, range: [number, number]): Uint8Array {
  const key = `${exposure} ${data ? range.join() : ""}`;
  const known = TABLES.get(key);
  if (known) return known;
  const table = new Uint8Array(65536);
  const gain = 2 ** exposure;
  const [low, high] = range;
  for (let bits = 0; bits < 65536; bits++) {
    const value = HALF_VALUES[bits]!;
    const seen = data ? ((value - low) / (high - low)) * gain : encode(value * gain);
    table[bits] = Number.isNaN(seen) ? 0 : Math.round(Math.min(1, Math.max(0, seen)) * 255);
  }
  // 64 tables are 4 MB; which of them were used last does not matter.
  if (TABLES.size >= 64) TABLES.clear();
  TABLES.set(key, table);
  return table;
}

/** Bytes of a pixel as one number, as memory has them on every machine with a browser: red first. */
const OPAQUE = 0xff000000;

const wordsOf = (pixels: Uint8ClampedArray<ArrayBuffer>) =>
  new Uint32Array(pixels.buffer, 0, pixels.length / 4);

const GREYS = new Map<Uint8Array, Uint32Array>();

/** The whole pixel of every half of a lone channel, by its bytes: one look for each pixel instead of four. */
function greyTable(bytes: Uint8Array): Uint32Array {
  const known = GREYS.get(bytes);
  if (known) return known;
  const table = Uint32Array.from(bytes, (byte) => OPAQUE | (byte * 0x010101));
  if (GREYS.size >= 16) GREYS.clear();
  GREYS.set(bytes, table);
  return table;
}

const WEAVE_DARK = decode(0x5a / 255);
const WEAVE_LIGHT = decode(0x7d / 255);
const WEAVE_GAP = decode(0x3c / 255);

/** The pixels of a picture as bytes, row 0 first; in memory of before, where some is given that is large enough. */
export function paint(planes: Planes, look: Look, memory?: ArrayBuffer): Uint8ClampedArray<ArrayBuffer> {
  const [, , width, height] = planes.region;
  const size = width * height * 4;
  const pixels = new Uint8ClampedArray(memory ?? new ArrayBuffer(size), 0, size);
  const alphaAt = alphaOf(planes);
  const seen = seenOf(planes);
  const over = planes.alpha !== "none" && alphaAt >= 0 && look.backing.kind !== "none";
  if (over) paintOver(pixels, planes, litOf(planes, alphaAt, COVERS), look);
  else {
    const exposure = planes.finished ? 0 : look.exposure;
    const colour = seen.map((index) => planes.samples[index]!);
    const came = planes.bytes && (planes.finished || planes.bytes.exposure === exposure);
    const tables = seen.map((index) =>
      came
        ? AS_IT_IS
        : tableOf(planes, index, byteTable(planes.data[index]!, exposure, planes.ranges[index] ?? [0, 1])),
    );
    paintFlat(pixels, colour, tables);
    if (look.tint && colour.length === 1) tinted(pixels, look.tint);
  }
  return pixels;
}

function paintFlat(pixels: Uint8ClampedArray<ArrayBuffer>, colour: Samples[], tables: Uint8Array[]): void {
  const words = wordsOf(pixels);
  // Of fewer pixels than there are halves it takes longer to make the table than to do without.
  if (colour.length === 1 && words.length > tables[0]!.length) {
    const [samples, table] = [colour[0]!, greyTable(tables[0]!)];
    for (let i = 0; i < words.length; i++) words[i] = table[samples[i]!]!;
    return;
  }
  const pick = (index: number) => Math.min(index, colour.length - 1);
  const two = colour.length === 2;
  const [r, g, b] = [colour[0]!, colour[pick(1)]!, colour[pick(2)]!];
  const [tr, tg, tb] = [
    tables[0]!,
    tables[pick(1)]!,
    two ? new Uint8Array(tables[0]!.length) : tables[pick(2)]!,
  ];
  for (let i = 0; i < words.length; i++)
    words[i] = OPAQUE | (tb[b[i]!]! << 16) | (tg[g[i]!]! << 8) | tr[r[i]!]!;
}

function tinted(pixels: Uint8ClampedArray, tint: [number, number, number]): void {
  for (let o = 0; o < pixels.length; o += 4)
    for (let c = 0; c < 3; c++) pixels[o + c] = Math.round(pixels[o + c]! * tint[c]!);
}

function paintOver(pixels: Uint8ClampedArray<ArrayBuffer>, planes: Planes, cover: Lit, look: Look): void {
  const [, , width, height] = planes.region;
  const words = wordsOf(pixels);
  const multiplied = seenOf(planes).map((at) => planes.alpha === "premultiplied" && !planes.data[at]);
  const gain = 2 ** look.exposure;
  const lit = lights(planes).map(({ samples, table }) => ({ samples, table: inSteps(table, gain) }));
  const behind = backingRows(planes, look);
  const laid = multiplied.every(Boolean)
    ? { ...cover, table: cover.table.map((a) => (1 - a) * STEPS) }
    : cover;
  const lay = laid === cover ? layStraight : layPremultiplied;
  const flags = [0, 1, 2].map((c) => multiplied[Math.min(c, multiplied.length - 1)]!);
  for (let y = 0; y < height; y++)
    lay(words, y * width, (y + 1) * width, lit as [Lit, Lit, Lit], laid, behind(y), flags);
}

/** A row of a picture whose colour holds its alpha already; `cover` tells what shines through, in steps. */
function layPremultiplied(
  words: Uint32Array,
  from: number,
  to: number,
  [{ samples: sr, table: tr }, { samples: sg, table: tg }, { samples: sb, table: tb }]: [Lit, Lit, Lit],
  { samples: alpha, table: through }: Lit,
  [br, bg, bb]: Row,
): void {
  for (let i = from, x = 0; i < to; i++, x++) {
    const t = through[alpha[i]!]!;
    words[i] = pixelOf(tr[sr[i]!]! + t * br[x]!, tg[sg[i]!]! + t * bg[x]!, tb[sb[i]!]! + t * bb[x]!);
  }
}

/** The same where alpha is still to be multiplied with, of all channels but those of which `multiplied` says so. */
function layStraight(
  words: Uint32Array,
  from: number,
  to: number,
  [{ samples: sr, table: tr }, { samples: sg, table: tg }, { samples: sb, table: tb }]: [Lit, Lit, Lit],
  { samples: alpha, table }: Lit,
  [br, bg, bb]: Row,
  [mr, mg, mb]: boolean[],
): void {
  for (let i = from, x = 0; i < to; i++, x++) {
    const a = table[alpha[i]!]!;
    const t = (1 - a) * STEPS;
    // Hidden colour that is no number stays hidden.
    const red = mr ? tr[sr[i]!]! : a !== 0 ? tr[sr[i]!]! * a : 0;
    const green = mg ? tg[sg[i]!]! : a !== 0 ? tg[sg[i]!]! * a : 0;
    const blue = mb ? tb[sb[i]!]! : a !== 0 ? tb[sb[i]!]! * a : 0;
    words[i] = pixelOf(red + t * br[x]!, green + t * bg[x]!, blue + t * bb[x]!);
  }
}

/** Light in steps of the table of encoded bytes, as a pixel. */
const pixelOf = (red: number, green: number, blue: number) =>
  OPAQUE |
  (ENCODED[within((blue + 0.5) | 0)]! << 16) |
  (ENCODED[within((green + 0.5) | 0)]! << 8) |
  ENCODED[within((red + 0.5) | 0)]!;

/** A step of the table of encoded bytes; what was no number stands at 0. */
const within = (step: number) => (step > 0 ? (step < STEPS ? step : STEPS) : 0);

/** Light and alpha beyond which it makes no difference how far: sums of their products in steps are still integers. */
const BLINDING = 500;
const MOST_ALPHA = 100;
const COVERS = HALF_VALUES.map((a) => Math.min(MOST_ALPHA, Math.max(-MOST_ALPHA, a)));
const STEPPED = new WeakMap<Float32Array, { gain: number; table: Float32Array }>();

/** A table of light under a gain, in steps of the table of encoded bytes. */
function inSteps(light: Float32Array, gain: number): Float32Array {
  const known = STEPPED.get(light);
  if (known?.gain === gain) return known.table;
  const table = light.map((value) => Math.min(BLINDING, Math.max(-BLINDING, value * gain)) * STEPS);
  STEPPED.set(light, { gain, table });
  return table;
}

type Row = [Float32Array, Float32Array, Float32Array];

/** Linear light of what lies behind a row of a picture, red, green and blue. */
type BackingRows = (y: number) => Row;

function backingRows(planes: Planes, look: Look): BackingRows {
  const [left, top, width] = planes.region;
  const { backing } = look;
  if (backing.kind === "weave") return weaveRows(width, left, top, planes.scale, backing.cell);
  const row: Row = [new Float32Array(width), new Float32Array(width), new Float32Array(width)];
  if (backing.kind === "planes")
    return planesRows(row, left, top, planes.scale, backing.planes, 2 ** look.exposure);
  const plain = backing.kind === "colour" ? backing.rgb.map(decode) : [0, 0, 0];
  row.forEach((light, c) => light.fill(plain[c]!));
  return () => row;
}

/** Bands that pass over and under each other, with a thin gap at each band's edge. */
function weaveRows(width: number, left: number, top: number, scale: number, cell: number): BackingRows {
  const at = (place: number) => {
    const band = (place * scale) / cell;
    const within = band - Math.floor(band);
    return [Math.floor(band) & 1, within < 0.12 || within > 0.88 ? 1 : 0] as const;
  };
  const columns = Array.from({ length: width }, (_, x) => at(left + x));
  // There are four kinds of rows.
  const rows = [0, 1, 2, 3].map((kind) => {
    const [oddRow, gapRow] = [kind >> 1, kind & 1];
    const row = Float32Array.from(columns, ([odd, gap]) => {
      const across = odd === oddRow;
      return (across ? gapRow : gap) ? WEAVE_GAP : across ? WEAVE_LIGHT : WEAVE_DARK;
    });
    return [row, row, row] as Row;
  });
  return (y) => {
    const [odd, gap] = at(top + y);
    return rows[odd * 2 + gap]!;
  };
}

/** Another item, which itself lies over black; black beyond it. */
function planesRows(
  light: Row,
  left: number,
  top: number,
  scale: number,
  behind: Planes,
  gain: number,
): BackingRows {
  const [x0, y0, width, height] = behind.region;
  const lit = lights(behind);
  const alpha = behind.alpha === "straight" ? alphaOf(behind) : -1;
  const cover = alpha >= 0 ? litOf(behind, alpha, COVERS) : undefined;
  const ratio = scale / behind.scale;
  const columns = Int32Array.from(light[0], (_, x) => {
    const column = Math.floor((left + x) * ratio) - x0;
    return column >= 0 && column < width ? column : -1;
  });
  return (y) => {
    const row = Math.floor((top + y) * ratio) - y0;
    const there = row >= 0 && row < height;
    light.forEach((line, c) => {
      const { samples, table } = lit[c]!;
      for (let x = 0; x < line.length; x++) {
        const at = there && columns[x]! >= 0 ? row * width + columns[x]! : -1;
        const covered = at < 0 ? 0 : cover ? cover.table[cover.samples[at]!]! : 1;
        line[x] = covered === 0 ? 0 : Math.min(BLINDING, table[samples[at]!]! * covered * gain);
      }
    });
    return light;
  };
}

/** Coverage removed by a matte, as a white picture whose opacity is 1 - matte. */
export function removed(planes: Planes): Uint8ClampedArray<ArrayBuffer> {
  const { samples: matte, table } = valuesOf(planes, planes.samples.length - 1);
  const pixels = new Uint8ClampedArray(new ArrayBuffer(matte.length * 4));
  for (let i = 0, o = 0; i < matte.length; i++, o += 4) {
    pixels[o] = pixels[o + 1] = pixels[o + 2] = 255;
    pixels[o + 3] = Math.round((1 - Math.min(1, Math.max(0, table[matte[i]!]!))) * 255);
  }
  return pixels;
}

/** The line where a matte passes 0.5, in a colour. */
export function contour(planes: Planes, rgb: [number, number, number]): Uint8ClampedArray<ArrayBuffer> {
  const [, , width, height] = planes.region;
  const { samples: matte, table } = valuesOf(planes, planes.samples.length - 1);
  const pixels = new Uint8ClampedArray(new ArrayBuffer(width * height * 4));
  const high = (index: number) => table[matte[index]!]! >= 0.5;
  for (let y = 0, i = 0; y < height; y++) {
    for (let x = 0; x < width; x++, i++) {
      const here = high(i);
      const edge = (x + 1 < width && high(i + 1) !== here) || (y + 1 < height && high(i + width) !== here);
      if (edge) pixels.set([rgb[0], rgb[1], rgb[2], 255], i * 4);
    }
  }
  return pixels;
}

/** Standard deviations of alpha from which a tint begins, and at which it is strongest; and how strong that is. */
const [UNSURE, VERY_UNSURE, STRONGEST] = [0.1, 0.35, 0.7];

/** A tint where a matte is unsure of itself, and nothing where it is sure. */
export function unsure(planes: Planes, rgb: [number, number, number]): Uint8ClampedArray<ArrayBuffer> {
  const { samples: doubt, table } = valuesOf(planes, planes.samples.length - 1);
  const pixels = new Uint8ClampedArray(new ArrayBuffer(doubt.length * 4));
  for (let i = 0, o = 0; i < doubt.length; i++, o += 4) {
    const share = (table[doubt[i]!]! - UNSURE) / (VERY_UNSURE - UNSURE);
    if (share > 0) pixels.set([rgb[0], rgb[1], rgb[2], Math.round(255 * STRONGEST * Math.min(1, share))], o);
  }
  return pixels;
}

/** A strong colour far from what the picture holds: the hue opposite to its mean. */
export function unlike(planes: Planes): [number, number, number] {
  const sums = [0, 0, 0];
  const shown = seenOf(planes).map((at) => valuesOf(planes, at));
  const count = planes.samples[0]!.length;
  const stride = Math.max(1, Math.floor(count / 5000));
  for (let i = 0; i < count; i += stride)
    for (let c = 0; c < 3; c++) {
      const { samples, table } = shown[Math.min(c, shown.length - 1)]!;
      sums[c]! += encode(table[samples[i]!]!);
    }
  const mean = sums.map((sum) => sum / Math.ceil(count / stride));
  const [low, high] = [Math.min(...mean), Math.max(...mean)];
  if (high - low < 0.04) return [255, 64, 208];
  return mean.map((value) => Math.round(64 + 191 * (1 - (value - low) / (high - low)))) as [
    number,
    number,
    number,
  ];
}
