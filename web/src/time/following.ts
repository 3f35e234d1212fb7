import { api, got } from "@/api/client";
import { type Recipe, drafted } from "@/api/recipe";
import { type PathPoint, curves, on } from "@/benches/mattes/paths";

import { type Movement, matrixAt } from "./movement";

export const MODELS = ["shift", "similarity", "affine", "perspective"] as const;
export type Model = (typeof MODELS)[number];

export interface Followed {
  frame: number;
  sure: number;
  matrix: number[] | null;
}

const AT_ONCE = 4;

interface Ask {
  shot: number;
  recipe: Recipe;
  address: string;
  outline: [number, number][];
  start: number;
  frames: number[];
  model: Model;
  search: boolean;
}

/** Follow an outline over frames, a few at a time; `seen` is told each. Stops where it is lost, or is told to. */
export async function followed(
  ask: Ask,
  stop: AbortSignal,
  seen: (row: Followed) => void,
): Promise<Followed[]> {
  const rows: Followed[] = [];
  let before: number[] | null = null;
  for (let at = 0; at < ask.frames.length && !stop.aborted; at += AT_ONCE) {
    const frames = ask.frames.slice(at, at + AT_ONCE);
    const { shot, recipe, frames: _, ...rest } = ask;
    const found: Followed[] = await got(
      api.POST("/api/shots/{shot_id}/follow", {
        params: { path: { shot_id: shot } },
        body: { ...drafted(recipe), ...rest, frames, before },
        signal: stop,
      }),
    );
    for (const row of found) {
      rows.push(row);
      seen(row);
      before = row.matrix ?? before;
    }
    const last = found.at(-1);
    if (!last || found.length < frames.length || (!last.matrix && !ask.search)) break;
  }
  return rows;
}

/** The corners of a closed path, close enough to its curves. */
export function cornersOf(points: PathPoint[]): [number, number][] {
  return curves(points).flatMap((curve, index) => {
    const straight = points[index]!.length < 6 && points[(index + 1) % points.length]!.length < 6;
    return Array.from({ length: straight ? 1 : 8 }, (_, step) => on(curve, step / 8));
  });
}

const times = (a: number[], b: number[]): number[] =>
  Array.from({ length: 9 }, (_, index) => {
    const [row, column] = [Math.floor(index / 3) * 3, index % 3];
    return a[row]! * b[column]! + a[row + 1]! * b[column + 3]! + a[row + 2]! * b[column + 6]!;
  });

const UNIT = [1, 0, 0, 0, 1, 0, 0, 0, 1];

/**
 * What was followed from a frame on, put together with the movement that there was: up to that frame it stays, from
 * there on it is what was followed, seen from the points as they are kept.
 */
export function joined(before: Movement | undefined, start: number, rows: Followed[]): Movement {
  const here = before ? matrixAt(before, start) : UNIT;
  const found = rows.filter((row) => row.matrix);
  const [low, high] = [
    Math.min(start, ...rows.map((row) => row.frame)),
    Math.max(start, ...rows.map((row) => row.frame)),
  ];
  const outside = ([frame]: [string, unknown]) => Number(frame) < low || Number(frame) > high;
  const kept = Object.fromEntries(Object.entries(before?.matrices ?? {}).filter(outside));
  const keptSure = Object.fromEntries(Object.entries(before?.sure ?? {}).filter(outside));
  const own = Object.fromEntries(found.map((row) => [String(row.frame), times(row.matrix!, here)]));
  return {
    from: before?.from ?? start,
    matrices: { ...kept, [String(start)]: here, ...own },
    sure: {
      ...keptSure,
      [String(start)]: 1,
      ...Object.fromEntries(rows.map((row) => [String(row.frame), row.sure])),
    },
  };
}
