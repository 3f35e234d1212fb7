import { type PointerEvent, useCallback, useRef, useState } from "react";

import type { Item } from "@/api/client";
import { findStep, type Recipe } from "@/api/recipe";
import { useTools } from "@/stage/tools";

import type { Gesture } from "./gestures";
import { type Stroke, isTold, painted, setStrokes, strokeAt, strokeOf, strokesOf } from "./strokes";

interface Context {
  recipe: Recipe;
  known: Item | undefined;
  /** Screen pixels for a picture pixel. */
  zoom: number;
  onStroke: (stroke: Stroke) => void;
  onRecipe: (change: (recipe: Recipe) => Recipe) => void;
}

/** Painting: points while the pointer is down, a stroke of the recipe when it is up; with Alt a stroke is erased. */
export function usePainting({ recipe, known, zoom, onStroke, onRecipe }: Context) {
  const held = useTools((state) => state.brush);
  const tool = useTools((state) => state.tool);
  const telling = tool === "keep" || tool === "drop";
  const brush = telling ? { ...held, opacity: 1, value: tool === "keep" ? 1 : 0 } : held;
  const [live, setLive] = useState<Stroke[]>([]);
  const points = useRef<number[][] | null>(null);
  const channels = known ? painted(known, brush) : null;
  const round = (value: number) => Math.round(value * 10) / 10;
  const point = ([x, y]: [number, number], event: PointerEvent) => {
    const pressure = event.pointerType === "pen" ? Math.round(event.pressure * 100) / 100 : 1;
    return pressure < 1 ? [round(x), round(y), pressure] : [round(x), round(y)];
  };
  const gesture: Gesture = {
    down: (at, event) => {
      const step = known && findStep(recipe, known.name);
      if (event.altKey) {
        if (!telling && isTold(step)) return;
        const index = strokeAt(strokesOf(step), ...at);
        if (known && index >= 0)
          onRecipe((before) =>
            setStrokes(
              before,
              known.name,
              strokesOf(step).filter((_, other) => other !== index),
            ),
          );
        return;
      }
      if (!channels) return;
      points.current = [point(at, event)];
      setLive((before) => [...before, strokeOf([at], brush, channels)]);
    },
    move: (at, event) => {
      const list = points.current;
      if (!list || !channels) return;
      const [x, y] = list.at(-1)!;
      // Closer points than these change nothing that could be seen.
      if (Math.hypot(at[0] - x!, at[1] - y!) < Math.max(0.7 / zoom, brush.radius * 0.08)) return;
      list.push(point(at, event));
      setLive((before) => [...before.slice(0, -1), strokeOf([...list], brush, channels)]);
    },
    up: () => {
      const list = points.current;
      points.current = null;
      if (list && channels) onStroke(strokeOf(list, brush, channels));
    },
    giveUp: () => {
      if (points.current) setLive((before) => before.slice(0, -1));
      points.current = null;
    },
  };
  /** Strokes that the computed picture holds by now need not be drawn over it any longer. */
  const settle = useCallback(() => setLive((before) => (points.current ? before.slice(-1) : [])), []);
  return { gesture, live, refused: known !== undefined && channels === null, settle };
}
