import { create } from "zustand";

import type { Recipe } from "@/api/recipe";
import type { components } from "@/api/schema";

export type Backdrop = "weave" | "black" | "white" | "own" | `item:${string}`;
export type MatteView = "off" | "hatch" | "contour" | "alone";
export type Panes = "one" | "two" | "split" | "blink" | "difference" | "four";

/** What a picture was diagnosed to be. */
export type DiagnosedAs = components["schemas"]["DiagnosedAs"];

export interface Pin {
  recipe: Recipe;
  address: string;
  channels: string[] | null;
}

/** What the next click on the stage gives: a value for a setting. */
export interface Pick {
  label: string;
  take: (x: number, y: number, keys: { shift: boolean; alt: boolean }) => void;
  /** It goes on after a click, until it is given up. */
  stays?: boolean;
}

interface ViewState {
  /** Channels shown alone, of the item in focus; none means the full picture. */
  alone: { item: string; channels: string[] } | null;
  /** Screen pixels for a picture pixel; 0 fits the picture into the pane. */
  zoom: number;
  /** The picture position (full-resolution pixels) in the middle of the pane. */
  centre: [number, number] | null;
  exposure: number;
  /** A lone colour channel is shown in its own colour instead of grey. */
  inColour: boolean;
  backdrop: Backdrop;
  own: string;
  matte: MatteView;
  panes: Panes;
  /** How a pin is seen inside of each of four panes. */
  within: "split" | "blink";
  split: { x: number; y: number; angle: number };
  pin: Pin | null;
  probeSize: number;
  /** The probe is seen. */
  probing: boolean;
  pick: Pick | null;
  /** Show where soft edges depart from what this item truly is. */
  fringe: { item: string; told: DiagnosedAs } | null;
  /** Where this item is unsure of itself, a plane of a recipe of its own, laid over it as a tint. */
  unsure: { item: string; recipe: Recipe } | null;
  /** Shown instead of what is in focus, while something is hovered. */
  preview: { recipe: Recipe; address: string; label: string } | null;
  /** Counts up when results that were waited for are there: views ask again. */
  arrivals: number;
  change: (to: Partial<ViewState>) => void;
  reset: () => void;
}

const START = {
  alone: null,
  zoom: 0,
  centre: null,
  exposure: 0,
  inColour: false,
  backdrop: "weave" as Backdrop,
  own: "#806a4a",
  matte: "off" as MatteView,
  panes: "one" as Panes,
  within: "split" as const,
  split: { x: 0.5, y: 0.5, angle: 0 },
  pin: null,
  probeSize: 1,
  probing: true,
  pick: null,
  fringe: null,
  unsure: null,
  preview: null,
  arrivals: 0,
};

/** How the stage shows things; nothing of it is part of the recipe. */
export const useView = create<ViewState>((set) => ({
  ...START,
  change: (to) => set(to),
  reset: () => set(START),
}));

export const BACKDROPS = ["weave", "black", "white", "own"] as const;
export const MATTE_VIEWS = ["off", "hatch", "contour", "alone"] as const;
