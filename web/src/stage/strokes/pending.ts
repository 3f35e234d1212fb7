import { type Recipe, findStep } from "@/api/recipe";
import { type Stroke, strokesOf } from "@/benches/mattes/strokes";

const same = (a: unknown, b: unknown) => a === b || JSON.stringify(a) === JSON.stringify(b);

/**
 * The strokes that a step has in one recipe beyond those that it has in an earlier one: what a picture computed from
 * that does not show yet. None where the strokes of before are not the first of those of now.
 */
export function strokesBeyond(before: Recipe, now: Recipe, item: string): Stroke[] {
  const known = strokesOf(findStep(before, item));
  const strokes = strokesOf(findStep(now, item));
  if (strokes.length <= known.length) return [];
  return known.every((stroke, at) => same(stroke, strokes[at])) ? strokes.slice(known.length) : [];
}

/**
 * The same where strokes of a step are all in which two recipes differ, of what stands above it and of the step itself;
 * else null.
 */
export function onlyStrokesBeyond(before: Recipe, now: Recipe, item: string): Stroke[] | null {
  const strokes = strokesBeyond(before, now, item);
  if (!strokes.length || before.at !== now.at || !same(before.sources, now.sources)) return null;
  const above = (recipe: Recipe) => {
    const steps = recipe.steps ?? [];
    return steps.slice(0, steps.findIndex((step) => step.name === item) + 1);
  };
  const [steps, others] = [above(before), above(now)];
  const alike = others.every((step, at) => {
    const other = steps[at];
    if (!other || step.name !== item) return same(step, other);
    return same(
      { ...step, set: { ...step.set, strokes: 0 } },
      { ...other, set: { ...other.set, strokes: 0 } },
    );
  });
  return alike && steps.length === others.length ? strokes : null;
}

type Box = [number, number, number, number];
/** Samples to which the box of strokes is grown. */
const GRID = 16;

/** The part of a region, in samples of a scale, that strokes can change; null where they change nothing of it. */
export function reachOf(strokes: readonly Stroke[], scale: number, [x, y, width, height]: Box): Box | null {
  let [left, top, right, bottom] = [Infinity, Infinity, -Infinity, -Infinity];
  for (const { points, radius } of strokes)
    for (const point of points) {
      left = Math.min(left, point[0]! - radius);
      top = Math.min(top, point[1]! - radius);
      right = Math.max(right, point[0]! + radius);
      bottom = Math.max(bottom, point[1]! + radius);
    }
  const low = (value: number) => Math.floor((value / scale - 1) / GRID) * GRID;
  const high = (value: number) => Math.ceil((value / scale + 1) / GRID) * GRID;
  const [x0, y0] = [Math.max(x, low(left)), Math.max(y, low(top))];
  const [x1, y1] = [Math.min(x + width, high(right)), Math.min(y + height, high(bottom))];
  return x1 > x0 && y1 > y0 ? [x0, y0, x1 - x0, y1 - y0] : null;
}
