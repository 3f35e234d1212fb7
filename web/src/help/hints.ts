import { create } from "zustand";

const KEPT = "nexal-hints";

interface Hints {
  on: boolean;
  set: (on: boolean) => void;
}

/** Whether hints stand at the controls; kept in this browser. */
export const useHints = create<Hints>((set) => ({
  on: localStorage.getItem(KEPT) !== "off",
  set: (on) => {
    localStorage.setItem(KEPT, on ? "on" : "off");
    set({ on });
  },
}));
