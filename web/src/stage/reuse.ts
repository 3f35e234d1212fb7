import type { Planes } from "./painting";

type Box = [number, number, number, number];

/** Share of a wanted region that must be there, so that only the rest is asked for. */
const ENOUGH = 0.25;

function overlap(a: Box, b: Box): Box | null {
  const x = Math.max(a[0], b[0]);
  const y = Math.max(a[1], b[1]);
  const right = Math.min(a[0] + a[2], b[0] + b[2]);
  const bottom = Math.min(a[1] + a[3], b[1] + b[3]);
  return right > x && bottom > y ? [x, y, right - x, bottom - y] : null;
}

/** Whether nothing of a wanted region is missing. */
export const covers = (there: Box, wanted: Box) => missing(there, wanted)?.length === 0;

/** What of a wanted region is not there: up to four rectangles; null where so little is there that all is asked for. */
export function missing(there: Box, wanted: Box): Box[] | null {
  const shared = overlap(there, wanted);
  if (!shared || shared[2] * shared[3] < ENOUGH * wanted[2] * wanted[3]) return null;
  const [x, y, width, height] = wanted;
  const [right, bottom] = [shared[0] + shared[2], shared[1] + shared[3]];
  const rest: Box[] = [
    [x, y, width, shared[1] - y],
    [x, bottom, width, y + height - bottom],
    [x, shared[1], shared[0] - x, shared[3]],
    [right, shared[1], x + width - right, shared[3]],
  ];
  return rest.filter((box) => box[2] > 0 && box[3] > 0);
}

/** Planes of a region, put together from planes of parts of it that are alike but for their region. */
export function joined(parts: Planes[], region: Box): Planes {
  const [x, y, width, height] = region;
  const samples = parts[0]!.samples.map((_, index) => {
    const result = parts[0]!.bytes ? new Uint8Array(width * height) : new Uint16Array(width * height);
    for (const part of parts) {
      const shared = overlap(part.region, region);
      if (!shared) continue;
      for (let row = shared[1]; row < shared[1] + shared[3]; row++) {
        const from = (row - part.region[1]) * part.region[2] + shared[0] - part.region[0];
        const line = part.samples[index]!.subarray(from, from + shared[2]);
        result.set(line, (row - y) * width + shared[0] - x);
      }
    }
    return result;
  });
  return { ...parts[0]!, region, samples };
}

/** Whether planes are parts of the same picture, none of them a rough one that stands in for it. */
export function alike(parts: Planes[]): boolean {
  const about = parts.map(({ digest, scale, channels, alpha, finished, ranges, bytes }) =>
    JSON.stringify([digest, scale, channels, alpha, finished, ranges, bytes?.exposure]),
  );
  return parts.every(({ pending }) => !pending) && about.every((one) => one === about[0]);
}
