import { create } from "zustand";

/** What the pointer does on the stage: nothing of its own, mark, paint, or draw. */
export type Tool = "none" | "subject" | "background" | "touch" | "shape" | "keep" | "drop";
export type Scope = "all" | "colour" | "alpha";

export interface Brush {
  radius: number;
  hardness: number;
  opacity: number;
  value: number;
  /** What of a picture is painted. */
  scope: Scope;
}

interface ToolState {
  tool: Tool;
  brush: Brush;
  /** Radius of a mark, in full-resolution pixels. */
  markRadius: number;
  /** The ring of settings is open at the pointer. */
  ring: boolean;
  /** Stroke or path in hand, and the points of the path that are chosen. */
  stroke: number | null;
  path: number | null;
  points: number[];
  /** The scout is open: its marks are shown. */
  scouting: boolean;
  /** Parts of the matte that vanish, as boxes of the picture. */
  lost: number[][];
  /** The chosen curve is also shown at the keys before and after. */
  ghosts: boolean;
  change: (to: Partial<ToolState>) => void;
  paint: (to: Partial<Brush>) => void;
}

/** The brush as it is at first. */
export const BRUSH: Brush = { radius: 24, hardness: 0.6, opacity: 1, value: 1, scope: "all" };

/** The tools of the stage, and how they are set. */
export const useTools = create<ToolState>((set) => ({
  tool: "none",
  brush: BRUSH,
  markRadius: 14,
  ring: false,
  stroke: null,
  path: null,
  points: [],
  scouting: true,
  lost: [],
  ghosts: false,
  change: (to) => set(to),
  paint: (to) => set((state) => ({ brush: { ...state.brush, ...to } })),
}));

const STEP = 1.15;

/** A brush made smaller (-1) or larger (1) by a fixed factor. */
export function resize(turn: number): void {
  const { tool, brush, markRadius, change, paint } = useTools.getState();
  const sized = (radius: number, most: number) =>
    Math.round(Math.min(most, Math.max(0.5, radius * STEP ** turn)) * 10) / 10;
  if (tool === "subject" || tool === "background") change({ markRadius: sized(markRadius, 500) });
  else paint({ radius: sized(brush.radius, 2000) });
}
