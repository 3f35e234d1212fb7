import type { Item } from "@/api/client";
import {
  type Recipe,
  type Step,
  changeStep,
  findStep,
  freeName,
  insertAfter,
  insertSteps,
} from "@/api/recipe";
import type { Brush } from "@/stage/tools";

export interface Stroke {
  points: number[][];
  radius: number;
  hardness?: number;
  opacity?: number;
  value?: number | number[];
  channels?: string[];
}

/** Whether strokes tell a step what is surely subject (1), and what surely is not (0). */
export function isTold(step: Step | undefined): boolean {
  return step?.op === "screen_solve" || step?.op === "mark_solve";
}

export function strokesOf(step: Step | undefined): Stroke[] {
  return step?.op === "touch_up" || isTold(step) ? ((step?.set?.strokes ?? []) as Stroke[]) : [];
}

/** Channels of an item that a brush paints; none means all of them; null where there is nothing to paint. */
export function painted(item: Item, brush: Brush): string[] | null {
  if (item.plane) return [];
  // Of a render, the picture itself is painted, not its passes and ids.
  const layered = item.channels.some((name) => name.includes("."));
  const own = layered ? item.channels.filter((name) => !name.includes(".")) : item.channels;
  if (brush.scope === "all") return layered ? own : [];
  const alpha = own.filter((name) => name.split(".").pop() === "A");
  if (brush.scope === "alpha") return alpha.length ? alpha : null;
  return own.filter((name) => !alpha.includes(name) && !item.data.includes(name));
}

/** What a stroke of a brush is but for its points. */
export function brushed(brush: Brush, channels: string[]): Omit<Stroke, "points"> {
  return {
    radius: brush.radius,
    hardness: brush.hardness,
    opacity: brush.opacity,
    value: brush.value,
    ...(channels.length ? { channels } : {}),
  };
}

/** The recipe with a stroke more: in the touch-up in focus, else in a new one behind the item. */
export function addStroke(recipe: Recipe, item: string, stroke: Stroke): [Recipe, string] {
  const step = findStep(recipe, item);
  if (step?.op === "touch_up") return [setStrokes(recipe, item, [...strokesOf(step), stroke]), item];
  const name = freeName(recipe, "touch_up");
  const added = { name, op: "touch_up", in: { matte: item }, set: { strokes: [stroke] } };
  return [insertAfter(recipe, added, step ? item : null), name];
}

/** The recipe with a stroke more that tells a step what is surely subject, or surely not. */
export function tellSide(recipe: Recipe, item: string, stroke: Stroke, side: "keep" | "drop"): Recipe {
  const { channels: _, ...told } = stroke;
  const value = side === "keep" ? 1 : 0;
  return setStrokes(recipe, item, [...strokesOf(findStep(recipe, item)), { ...told, opacity: 1, value }]);
}

export function setStrokes(recipe: Recipe, item: string, strokes: Stroke[]): Recipe {
  return changeStep(recipe, item, (step) => ({ ...step, set: { ...step.set, strokes } }));
}

/** An alpha of 1 everywhere for a picture that has none. */
export function addAlpha(recipe: Recipe, item: string): [Recipe, string] {
  return insertSteps(
    recipe,
    [
      { name: "opaque", op: "constant", in: { like: item }, set: { colour: [1] } },
      { name: `${item}_alpha`, op: "attach_alpha", in: { picture: item, alpha: "opaque" } },
    ],
    findStep(recipe, item) ? item : null,
  );
}

/** The topmost stroke that covers a position, -1 where there is none. */
export function strokeAt(strokes: Stroke[], x: number, y: number): number {
  for (let index = strokes.length - 1; index >= 0; index--) {
    const { points, radius } = strokes[index]!;
    const near = points.some(([ax, ay], at) => {
      const [bx, by] = points[Math.min(at + 1, points.length - 1)]!;
      const [dx, dy] = [bx! - ax!, by! - ay!];
      const length = dx * dx + dy * dy;
      const t = length ? Math.min(1, Math.max(0, ((x - ax!) * dx + (y - ay!) * dy) / length)) : 0;
      return Math.hypot(ax! + dx * t - x, ay! + dy * t - y) <= radius;
    });
    if (near) return index;
  }
  return -1;
}
