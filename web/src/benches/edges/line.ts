import { create } from "zustand";

/** Ends of a line across an edge, in full-resolution pixels: x and y of the start, x and y of the end. */
export type Line = [number, number, number, number];

interface LineState {
  shot: number;
  line: Line | null;
  /** The next drag on the stage draws it. */
  drawing: boolean;
  open: (shot: number) => void;
  put: (line: Line | null) => void;
  draw: (drawing: boolean) => void;
}

const key = (shot: number) => `nexal-edge-line-${shot}`;

function kept(shot: number): Line | null {
  try {
    const found: unknown = JSON.parse(localStorage.getItem(key(shot)) ?? "null");
    return Array.isArray(found) && found.length === 4 && found.every((value) => typeof value === "number")
      ? (found as Line)
      : null;
  } catch {
    return null;
  }
}

/** The line of the edge profile; this browser keeps it for each shot. */
export const useEdgeLine = create<LineState>((set, get) => ({
  shot: 0,
  line: null,
  drawing: false,
  open: (shot) => {
    if (shot !== get().shot) set({ shot, line: kept(shot), drawing: false });
  },
  put: (line) => {
    set({ line });
    if (line) localStorage.setItem(key(get().shot), JSON.stringify(line));
    else localStorage.removeItem(key(get().shot));
  },
  draw: (drawing) => set({ drawing }),
}));
