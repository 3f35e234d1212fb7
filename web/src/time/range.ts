import type { SourceRow } from "@/api/client";
import { type Recipe, stepsOf, sourcesOf } from "@/api/recipe";

import { movingIn } from "./keys";

export type Range = [first: number, last: number];

/** A source of many frames as it lies in time: its range, and the numbers that are missing, all as frames. */
export interface Bar {
  name: string;
  range: Range;
  gaps: Range[];
  /** Frames a second, where its file says so. */
  rate: number | null;
}

/** The sources of many frames of a recipe, in time. */
export function barsOf(recipe: Recipe, rows: readonly SourceRow[]): Bar[] {
  return Object.entries(sourcesOf(recipe)).flatMap(([name, spec]) => {
    const frames = rows.find((row) => row.files === spec.files)?.frames;
    const numbers = frames?.numbers;
    if (!numbers?.length) return [];
    const by = spec.offset ?? 0;
    const first = spec.first ?? numbers[0]![0]!;
    const last = spec.last ?? numbers.at(-1)![1]!;
    // Between frames of a video nothing is missing: each is seen until the next one's time.
    const runs = frames?.rate ? [] : numbers;
    const gaps = runs
      .slice(1)
      .map((run, index): Range => [runs[index]![1]! + 1, run[0]! - 1])
      .filter((gap) => gap[1] >= first && gap[0] <= last)
      .map((gap): Range => [Math.max(gap[0], first) + by, Math.min(gap[1], last) + by]);
    return [{ name, range: [first + by, last + by] as Range, gaps, rate: frames?.rate ?? null }];
  });
}

/** The range that ranges lie in; null of none. */
function around(ranges: readonly Range[]): Range | null {
  if (!ranges.length) return null;
  return [Math.min(...ranges.map((range) => range[0])), Math.max(...ranges.map((range) => range[1]))];
}

/**
 * All frames that there are: of the sources, of the range that a person set, if one did, and of what moves; null for a
 * single one.
 */
export function wholeRange(recipe: Recipe, bars: readonly Bar[], own: Range | null): Range | null {
  const ends = bars.map((bar) => bar.range);
  if (own && own[1] > own[0]) ends.push(own);
  const keys = stepsOf(recipe).flatMap((step) =>
    movingIn(step).flatMap(({ keys: each }) => each.map((key) => key[0])),
  );
  if (keys.length) ends.push([Math.floor(Math.min(...keys)), Math.ceil(Math.max(...keys))]);
  const range = around(ends);
  return range && (range[1] > range[0] || keys.length) ? range : null;
}

/**
 * The frames that are played and delivered: the range that a person set; else that of all moving sources; else all
 * frames that there are.
 */
export function workRange(whole: Range | null, bars: readonly Bar[], own: Range | null): Range {
  return own ?? around(bars.map((bar) => bar.range)) ?? whole ?? [1, 1];
}

/** The next frame of a range, going round where it loops; null at its end. */
export function following(frame: number, [first, last]: Range, loop: boolean): number | null {
  if (frame >= first && frame < last) return frame + 1;
  return frame >= last && !loop ? null : first;
}

/** Ticks of a ruler: every so many frames that labels stay apart. */
export function ticks([first, last]: Range, width: number, apart = 48): { frame: number; label: boolean }[] {
  const most = Math.max(1, Math.floor(width / apart));
  const count = last - first + 1;
  const step =
    [1, 2, 5, 10, 20, 25, 50, 100, 200, 250, 500, 1000, 2500, 5000].find((each) => count / each <= most) ??
    10_000;
  const small = step >= 5 ? step / 5 : 1;
  const result: { frame: number; label: boolean }[] = [];
  for (let frame = Math.ceil(first / small) * small; frame <= last; frame += small)
    result.push({ frame, label: frame % step === 0 });
  // The first frame is named where there is room for its name.
  if (!result.some((tick) => tick.label && tick.frame - first < Math.max(step / 2, (apart / width) * count)))
    result.unshift({ frame: first, label: true });
  return result;
}
