import { create } from "zustand";

import type { components } from "@/api/schema";
import { useView } from "@/stage/viewState";

export type Unsure = components["schemas"]["DoubtRow"];

interface DoubtState {
  /** Places where the matte in focus is unsure, the worst first; none where nobody asked. */
  places: Unsure[];
  at: number | null;
  /** Whether they are tinted on the stage. */
  tinted: boolean;
  tint: (tinted: boolean) => void;
  show: (places: Unsure[]) => void;
  /** Brings the next place into view, after the last the first again. */
  next: (turn?: number) => void;
}

/** Screen pixels that a place takes, as it is brought into view. */
const SEEN = 260;

export const useDoubts = create<DoubtState>((set, get) => ({
  places: [],
  at: null,
  tinted: true,
  tint: (tinted) => set({ tinted }),
  show: (places) => set({ places, at: null }),
  next: (turn = 1) => {
    const { places, at } = get();
    if (!places.length) return;
    const next =
      at === null ? (turn > 0 ? 0 : places.length - 1) : (at + turn + places.length) % places.length;
    const { x, y, width, height } = places[next]!;
    set({ at: next });
    useView.getState().change({
      zoom: Math.min(8, Math.max(0.125, SEEN / Math.max(width, height, 1))),
      centre: [x + width / 2, y + height / 2],
    });
  },
}));
