import { create } from "zustand";

import type { Recipe } from "@/api/recipe";

export type Seen = "bays" | "packed" | "mip" | "blocks";
export type LitShape = "tin" | "sphere" | "panel";

interface PackingView {
  shot: number;
  /** The texture last looked at: a bay may belong to several. */
  pack: string | null;
  seen: Seen;
  level: number;
  shape: LitShape;
  /** Yaw and pitch, degrees. */
  turn: [number, number];
  /** Where the lights come from: places in a unit circle, its middle being the eye. */
  key: [number, number];
  fill: [number, number];
  /** What the object is painted with; undefined chooses for itself, null is plain grey. */
  base: string | null | undefined;
  normal: string | null;
  /** A recipe as it was, for comparison on the object. */
  before: Recipe | null;
  split: number;
  format: "png 8" | "png 16" | "tga 8" | "tiff 16" | "tiff float" | "exr half" | "exr float";
  dither: "none" | "ordered" | "diffusion";
  change: (to: Partial<PackingView>) => void;
  open: (shot: number) => void;
}

const START = {
  pack: null,
  seen: "bays" as Seen,
  level: 1,
  shape: "tin" as LitShape,
  turn: [0, 8] as [number, number],
  key: [-0.55, -0.45] as [number, number],
  fill: [0.75, 0.1] as [number, number],
  base: undefined,
  normal: null,
  before: null,
  split: 0.5,
  format: "png 8" as const,
  dither: "none" as const,
};

/** How the Packing bench shows things; nothing of it is part of the recipe. */
export const usePackingView = create<PackingView>((set, get) => ({
  shot: 0,
  ...START,
  change: (to) => set(to),
  open: (shot) => {
    if (get().shot !== shot) set({ ...START, shot });
  },
}));
