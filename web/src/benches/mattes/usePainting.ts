import { type PointerEvent, useRef } from "react";

import type { Item } from "@/api/client";
import { findStep, type Recipe } from "@/api/recipe";
import { StrokeInHand, finishInHand, takeInHand } from "@/stage/strokes/strokeInHand";
import { useTools } from "@/stage/tools";

import type { Gesture } from "./gestures";
import { type Stroke, brushed, isTold, painted, setStrokes, strokeAt, strokesOf } from "./strokes";

interface Context {
  recipe: Recipe;
  /** What is painted on, and what it is like. */
  item: string | null;
  surface: Item | undefined;
  /** Screen pixels for a picture pixel. */
  zoom: number;
  onStroke: (stroke: Stroke) => void;
  onRecipe: (change: (recipe: Recipe) => Recipe) => void;
}

const round = (value: number) => Math.round(value * 10) / 10;

/** Painting: points while the pointer is down, a stroke of the recipe when it is up; with Alt a stroke is erased. */
export function usePainting({ recipe, item, surface, zoom, onStroke, onRecipe }: Context) {
  const held = useTools((state) => state.brush);
  const tool = useTools((state) => state.tool);
  const telling = tool === "keep" || tool === "drop";
  const brush = telling ? { ...held, opacity: 1, value: tool === "keep" ? 1 : 0 } : held;
  const inHand = useRef<StrokeInHand | null>(null);
  const channels = surface ? painted(surface, brush) : null;
  const take = (stroke: StrokeInHand | null) => {
    inHand.current = stroke;
    takeInHand(stroke);
  };
  const point = ([x, y]: [number, number], event: PointerEvent) => {
    const pressure = event.pointerType === "pen" ? Math.round(event.pressure * 100) / 100 : 1;
    return pressure < 1 ? [round(x), round(y), pressure] : [round(x), round(y)];
  };
  const gesture: Gesture = {
    down: (at, event) => {
      const step = item ? findStep(recipe, item) : undefined;
      if (event.altKey) {
        if (!telling && isTold(step)) return;
        const index = strokeAt(strokesOf(step), ...at);
        if (item && index >= 0)
          onRecipe((before) =>
            setStrokes(
              before,
              item,
              strokesOf(step).filter((_, other) => other !== index),
            ),
          );
        return;
      }
      if (!item || !channels) return;
      take(new StrokeInHand(item, brushed(brush, channels), point(at, event), zoom));
    },
    move: (at, event) => inHand.current?.add(point(at, event)),
    up: () => {
      const stroke = inHand.current?.finish();
      inHand.current = null;
      if (!stroke) return;
      finishInHand(stroke);
      onStroke(stroke);
    },
    giveUp: () => take(null),
  };
  return { gesture, refused: surface !== undefined && channels === null };
}
