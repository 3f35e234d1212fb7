import { create } from "zustand";

import { type Problem, api, got, problemOf } from "@/api/client";

export interface Mark {
  side: "subject" | "background";
  x: number;
  y: number;
  radius: number;
}

interface MarkState {
  shot: number;
  marks: Mark[];
  problem: Problem | null;
  open: (shot: number, marks: Mark[]) => void;
  /** Take over other marks; they are kept with the shot once they have been still for a moment. */
  put: (marks: Mark[]) => void;
}

let timer: ReturnType<typeof setTimeout> | undefined;

/** The marks of subject and background, kept with the shot and not in its recipe. */
export const useMarks = create<MarkState>((set, get) => ({
  shot: 0,
  marks: [],
  problem: null,
  open: (shot, marks) => set({ shot, marks, problem: null }),
  put: (marks) => {
    set({ marks });
    clearTimeout(timer);
    const { shot } = get();
    timer = setTimeout(() => {
      got(
        api.PUT("/api/shots/{shot_id}/marks", {
          params: { path: { shot_id: shot } },
          body: { marks: get().marks },
        }),
      )
        .then(() => set({ problem: null }))
        .catch((error: unknown) => set({ problem: problemOf(error) }));
    }, 400);
  },
}));

export const MOST_MARKS = 500;
