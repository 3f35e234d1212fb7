import type { PointerEvent } from "react";

/** What a tool does with the pointer. Positions are in full-resolution picture pixels. */
export interface Gesture {
  down: (at: [number, number], event: PointerEvent) => void;
  move: (at: [number, number], event: PointerEvent) => void;
  up: (at: [number, number], event: PointerEvent) => void;
  /** All is as it was before the pointer went down, and it has nothing in hand any more. */
  giveUp: () => void;
  twice?: (at: [number, number]) => void;
}
