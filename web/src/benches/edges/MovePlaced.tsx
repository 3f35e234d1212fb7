import { type PointerEvent, useRef } from "react";

import { type Recipe, type Step, setSetting } from "@/api/recipe";
import { useDraft } from "@/shot/draft";
import type { Placement } from "@/stage/geometry";

interface Props {
  placement: Placement;
  step: Step;
  /** The placed picture's window: x, y, width, height. */
  window: [number, number, number, number];
}

/** A placed picture is moved by dragging it on the stage; whole pixels, fractions with Shift. */
export function MovePlaced({ placement, step, window: box }: Props) {
  const edit = useDraft((state) => state.edit);
  const held = useRef<{ x: number; y: number; left: number; top: number } | null>(null);
  const { zoom, left, top } = placement;
  const number = (name: string) => (typeof step.set?.[name] === "number" ? step.set[name] : 0);
  const put = (event: PointerEvent, done: boolean) => {
    const from = held.current;
    if (!from) return;
    const settle = (value: number) => (event.shiftKey ? Math.round(value * 100) / 100 : Math.round(value));
    const x = settle(from.left + (event.clientX - from.x) / zoom);
    const y = settle(from.top + (event.clientY - from.y) / zoom);
    const moved = (before: Recipe) => setSetting(setSetting(before, step.name, "x", x), step.name, "y", y);
    edit(moved, done);
  };
  return (
    <div
      role="application"
      aria-label={`Drag ${step.name} to where it belongs`}
      data-testid="placed"
      className="absolute cursor-move touch-none border border-dashed border-lichen/80"
      style={{
        left: (box[0] - left) * zoom,
        top: (box[1] - top) * zoom,
        width: box[2] * zoom,
        height: box[3] * zoom,
      }}
      onPointerDown={(event) => {
        if (event.button !== 0) return;
        event.stopPropagation();
        event.currentTarget.setPointerCapture(event.pointerId);
        held.current = { x: event.clientX, y: event.clientY, left: number("x"), top: number("y") };
      }}
      onPointerMove={(event) => put(event, false)}
      onPointerUp={(event) => {
        put(event, true);
        held.current = null;
      }}
    />
  );
}
