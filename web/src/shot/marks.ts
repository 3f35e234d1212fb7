import { useMemo } from "react";
import { create } from "zustand";

import { PAGE, type Problem, api, csrf, got, problemOf } from "@/api/client";
import { type Recipe, sourcesOf } from "@/api/recipe";
import { upstream } from "@/stage/focus";

import { useDraft } from "./draft";

export interface Mark {
  side: "subject" | "background";
  x: number;
  y: number;
  radius: number;
  /** The source that it was made on; empty where that was not kept. */
  on: string;
}

/** The source that an item is made from first; itself where it is one. */
export function sourceOf(recipe: Recipe, item: string | null): string {
  if (!item) return "";
  const sources = sourcesOf(recipe);
  return item in sources ? item : (upstream(recipe, item).find((name) => name in sources) ?? "");
}

/** Whether a mark tells of a source; one that does not say where it was made tells of all. */
export const belongs = (mark: Mark, source: string) => mark.on === "" || mark.on === source;

/** The marks that were made on the source of an item. */
export function useMarksOf(item: string | null): Mark[] {
  const recipe = useDraft((state) => state.recipe);
  const marks = useMarks((state) => state.marks);
  const source = sourceOf(recipe, item);
  return useMemo(() => marks.filter((mark) => belongs(mark, source)), [marks, source]);
}

interface MarkState {
  shot: number;
  marks: Mark[];
  problem: Problem | null;
  open: (shot: number, marks: Mark[]) => void;
  /** Take over other marks; they are kept with the shot once they have been still for a moment. */
  put: (marks: Mark[]) => void;
}

const STILL = 300;

// Two that are on their way at once may arrive in either order: the server takes a page's in the order of their turns.
let turn = 0;
const sent = (marks: Mark[]) => ({ marks, page: PAGE, turn: ++turn });

let waiting: { shot: number; marks: Mark[]; timer: ReturnType<typeof setTimeout> } | null = null;

/** The marks of subject and background, kept with the shot and not in its recipe. */
export const useMarks = create<MarkState>((set, get) => {
  function keep(): void {
    if (!waiting) return;
    const { shot, marks, timer } = waiting;
    clearTimeout(timer);
    waiting = null;
    got(api.PUT("/api/shots/{shot_id}/marks", { params: { path: { shot_id: shot } }, body: sent(marks) }))
      .then(() => get().shot === shot && set({ problem: null }))
      .catch((error: unknown) => get().shot === shot && set({ problem: problemOf(error) }));
  }
  return {
    shot: 0,
    marks: [],
    problem: null,
    open: (shot, marks) => {
      keep();
      set({ shot, marks, problem: null });
    },
    put: (marks) => {
      set({ marks });
      if (waiting) clearTimeout(waiting.timer);
      waiting = { shot: get().shot, marks, timer: setTimeout(keep, STILL) };
    },
  };
});

// A page that is left takes what still waits along.
window.addEventListener("pagehide", () => {
  if (!waiting) return;
  void fetch(`/api/shots/${waiting.shot}/marks`, {
    method: "PUT",
    keepalive: true,
    headers: { "Content-Type": "application/json", "X-CSRFToken": csrf() },
    body: JSON.stringify(sent(waiting.marks)),
  });
});

export const MOST_MARKS = 500;
