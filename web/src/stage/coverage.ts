import { type Planes, alphaOf, valuesOf } from "./painting";

const LOOKED_AT = 20_000;
const told = new WeakMap<Planes, string>();

/** What a picture covers, in words for who does not see it; empty where it is no matte and has no alpha. */
export function coverageWords(planes: Planes | null | undefined): string {
  if (!planes) return "";
  const known = told.get(planes);
  if (known !== undefined) return known;
  const words = wordsOf(planes);
  told.set(planes, words);
  return words;
}

function wordsOf(planes: Planes): string {
  const alpha = alphaOf(planes);
  // A lone colour channel is brightness, and covers nothing.
  const lone = /^(Y|A|.*\.A)$/.test(planes.channels.join()) && planes.ranges[0] == null && !planes.finished;
  const at = alpha >= 0 ? alpha : lone ? 0 : -1;
  if (!planes.samples[at]?.length) return "";
  const { samples: plane, table } = valuesOf(planes, at);
  // Some of a large one tell as much: an odd step walks through its columns.
  const step = Math.max(1, Math.floor(plane.length / LOOKED_AT)) | 1;
  let [sum, many] = [0, 0];
  for (let i = 0; i < plane.length; i += step) {
    const value = table[plane[i]!]!;
    // What goes beyond is light or a measure, not a share of anything.
    if (!(value >= -0.001 && value <= 1.001)) return "";
    sum += value;
    many += 1;
  }
  const [, , width, height] = planes.display;
  const whole = (width / planes.scale) * (height / planes.scale);
  const share = ((sum / many) * plane.length) / Math.max(1, whole);
  return `${Math.round(100 * Math.min(1, Math.max(0, share)))} % covered`;
}
