import { useRef } from "react";

import { MOST_MARKS, belongs, useMarks } from "@/shot/marks";
import { useTools } from "@/stage/tools";

import type { Gesture } from "./gestures";

/** Marks are put by clicking or dragging, moved by dragging one, taken away with Alt. */
export function useMarking(source: string): Gesture {
  const { tool, markRadius } = useTools();
  const { marks, put } = useMarks();
  const held = useRef<{ index: number; dx: number; dy: number } | null>(null);
  const last = useRef<[number, number] | null>(null);
  const before = useRef(marks);
  const side = tool === "background" ? "background" : "subject";
  const round = (value: number) => Math.round(value * 10) / 10;
  const dab = ([x, y]: [number, number]) => {
    const now = useMarks.getState().marks;
    if (now.length >= MOST_MARKS) return;
    last.current = [x, y];
    put([...now, { side, x: round(x), y: round(y), radius: markRadius, on: source }]);
  };
  return {
    down: (at, event) => {
      before.current = marks;
      const index = marks.findLastIndex(
        (mark) => belongs(mark, source) && Math.hypot(mark.x - at[0], mark.y - at[1]) <= mark.radius,
      );
      const mark = marks[index];
      if (mark && event.altKey) put(marks.filter((_, other) => other !== index));
      else if (mark) held.current = { index, dx: mark.x - at[0], dy: mark.y - at[1] };
      else if (!event.altKey) dab(at);
    },
    move: (at) => {
      const grip = held.current;
      if (grip) {
        const moved = { x: round(at[0] + grip.dx), y: round(at[1] + grip.dy) };
        put(
          useMarks
            .getState()
            .marks.map((mark, index) => (index === grip.index ? { ...mark, ...moved } : mark)),
        );
      } else if (last.current) {
        const [x, y] = last.current;
        if (Math.hypot(at[0] - x, at[1] - y) > 1.6 * markRadius) dab(at);
      }
    },
    up: () => {
      held.current = null;
      last.current = null;
    },
    giveUp: () => {
      held.current = null;
      last.current = null;
      put(before.current);
    },
  };
}
