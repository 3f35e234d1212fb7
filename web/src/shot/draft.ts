import { create } from "zustand";

import { ApiError, type Problem, type RevisionWhole, api, got, problemOf } from "@/api/client";
import type { Recipe } from "@/api/recipe";

interface Draft {
  shot: number;
  head: RevisionWhole | null;
  recipe: Recipe;
  /** A change that the server does not have yet. */
  unsaved: boolean;
  saving: boolean;
  /** Somebody else's revision stands in the way. */
  conflict: { problem: Problem; head: RevisionWhole } | null;
  problem: Problem | null;
  open: (shot: number, head: RevisionWhole) => void;
  /** Change the recipe; it is saved as a revision at once, or, while something is dragged, on a later `settle`. */
  edit: (change: (recipe: Recipe) => Recipe, done?: boolean) => void;
  settle: () => void;
  undo: () => Promise<void>;
  redo: () => Promise<void>;
  takeTheirs: () => void;
  keepMine: () => void;
  dismiss: () => void;
}

export const EMPTY: Recipe = { nexal: 1 };

type Route = "/api/shots/{shot_id}/undo" | "/api/shots/{shot_id}/redo";

const asRecipe = (revision: RevisionWhole) => revision.recipe as unknown as Recipe;

/** The recipe being edited, and its way to the server: one save at a time, never over somebody else's. */
export const useDraft = create<Draft>((set, get) => {
  async function save(): Promise<void> {
    const { shot, head, recipe, unsaved, saving, conflict } = get();
    if (!head || !unsaved || saving || conflict) return;
    set({ saving: true, problem: null });
    try {
      const revision = await got(
        api.POST("/api/shots/{shot_id}/revisions", {
          params: { path: { shot_id: shot } },
          body: { parent: head.number, recipe: recipe as unknown as Record<string, unknown> },
        }),
      );
      if (get().shot !== shot) return;
      const later = get().recipe !== recipe;
      set({ head: revision, saving: false, unsaved: later });
      if (later) await save();
    } catch (error) {
      set({ saving: false });
      if (error instanceof ApiError && error.problem.code === "conflict") await meet(error.problem);
      else set({ problem: problemOf(error) });
    }
  }

  async function meet(problem: Problem): Promise<void> {
    const { shot } = get();
    try {
      const whole = await got(api.GET("/api/shots/{shot_id}", { params: { path: { shot_id: shot } } }));
      set({ conflict: { problem, head: whole.head } });
    } catch (error) {
      set({ problem: problemOf(error) });
    }
  }

  /** Moves wait for each other: two quick presses of undo are two steps back. */
  let moves: Promise<void> = Promise.resolve();
  const queued = (route: Route) => (moves = moves.then(() => moveHead(route)));

  async function moveHead(route: Route): Promise<void> {
    await save();
    // A save that is on its way already comes first: undo takes back what is seen.
    while (get().saving) await new Promise((resolve) => setTimeout(resolve, 20));
    const { shot, head, conflict, unsaved } = get();
    if (!head || conflict || unsaved) return;
    try {
      const moved = await got(
        api.POST(route, { params: { path: { shot_id: shot } }, body: { head: head.number } }),
      );
      set({ head: moved, recipe: asRecipe(moved), problem: null });
    } catch (error) {
      if (error instanceof ApiError && error.problem.code === "conflict") await meet(error.problem);
      else if (!(error instanceof ApiError && error.problem.code === "no_more"))
        set({ problem: problemOf(error) });
    }
  }

  return {
    shot: 0,
    head: null,
    recipe: EMPTY,
    unsaved: false,
    saving: false,
    conflict: null,
    problem: null,
    open: (shot, head) =>
      set({
        shot,
        head,
        recipe: asRecipe(head),
        unsaved: false,
        saving: false,
        conflict: null,
        problem: null,
      }),
    edit: (change, done = true) => {
      const recipe = change(get().recipe);
      if (recipe !== get().recipe) set({ recipe, unsaved: true });
      if (done) void save();
    },
    settle: () => void save(),
    undo: () => queued("/api/shots/{shot_id}/undo"),
    redo: () => queued("/api/shots/{shot_id}/redo"),
    takeTheirs: () => {
      const theirs = get().conflict?.head;
      if (theirs) set({ head: theirs, recipe: asRecipe(theirs), unsaved: false, conflict: null });
    },
    keepMine: () => {
      const theirs = get().conflict?.head;
      if (!theirs) return;
      set({ head: theirs, unsaved: true, conflict: null });
      void save();
    },
    dismiss: () => set({ problem: null }),
  };
});
