import { create } from "zustand";

import { ApiError, type Problem, type RevisionWhole, problemOf } from "@/api/client";
import type { Recipe } from "@/api/recipe";

import { changedAt } from "@/time/keys";
import { useTime } from "@/time/timeState";

import { type Kept, type Keeper, browserKeeper } from "./kept";
import { type Clash, type Merged, changesOf, merge, wholeOf } from "./merge";
import { type Server, type Way, server as realServer } from "./server";

type Change = (recipe: Recipe) => Recipe;

/** What is to happen once a move through the history, asked for before it, is done. */
type Later = { way: Way; sure?: boolean } | { change: Change; done: boolean };

/** Places that this page had set, and a revision of somebody else's set otherwise. */
export interface Overridden {
  revision: RevisionWhole;
  places: { where: string; mine: string; theirs: string }[];
}

interface Draft {
  shot: number;
  head: RevisionWhole | null;
  recipe: Recipe;
  /** A change that the server does not have yet. */
  unsaved: boolean;
  /** Something is being dragged: the recipe holds a change that has not settled. */
  moving: boolean;
  saving: boolean;
  /** Steps back and on, counting those that the server does not know. */
  canUndo: boolean;
  canRedo: boolean;
  /** Work of an earlier page was found in this browser. */
  restored: boolean;
  /**
   * Another revision stands in the way: somebody else's, or one that came while this work was waiting. `clashes` are
   * the places that both changed; null where it is not known what both began with. Put `aside`, it waits.
   */
  conflict: { problem: Problem; head: RevisionWhole; clashes: Clash[] | null; aside: boolean } | null;
  /** The last revision of somebody else that this work was put together with, until it was read. */
  merged: RevisionWhole | null;
  /** The last revision of somebody else that came into view here, until it was read. */
  heard: RevisionWhole | null;
  /** What this page had set and somebody else set otherwise, until it was read: whatever else there is to be told. */
  overridden: Overridden | null;
  /** The revision of somebody else that undo would take back: it is asked about first. */
  foreign: RevisionWhole | null;
  problem: Problem | null;
  /** Counts what this page did to the shot: an answer asked for before is out of date. */
  stamp: number;
  /** Open a shot, with what this browser kept of it; `owner` is nobody where it may not be changed. */
  open: (shot: number, head: RevisionWhole, owner: string | null) => Promise<void>;
  /** The head as the server told it at a stamp; taken where nothing here is newer. */
  hear: (head: RevisionWhole, stamp: number) => void;
  /** Change the recipe; it is saved as a revision at once, or, while something is dragged, on a later `settle`. */
  edit: (change: Change, done?: boolean) => void;
  /** The same for the recipe as it is saved, with its keys. */
  editKeys: (change: Change, done?: boolean) => void;
  settle: () => void;
  /**
   * Give a drag up: everything is as it was before it, and what else it tells until it is let go is left. Whether there
   * was one.
   */
  giveUp: () => boolean;
  letGo: () => void;
  /** Take back the last change; one of somebody else's only where that is `sure`. */
  undo: (sure?: boolean) => void;
  redo: () => void;
  /** End a conflict: both versions put together, with one side's values where they clash; or theirs alone. */
  takeTheirs: (alone?: boolean) => void;
  keepMine: () => void;
  setAside: (aside: boolean) => void;
  dismiss: () => void;
  leaveForeign: () => void;
  /** Settled once everything is saved, or cannot be for now. */
  finished: () => Promise<boolean>;
}

export const EMPTY: Recipe = { nexal: 1 };
/** How often it is looked whether nothing is under way. */
const IDLE_MS = 300;
const RETRY_MS = [1000, 2000, 4000, 8000, 15_000];

const away = (error: unknown) => !(error instanceof ApiError) || error.status === 0 || error.status >= 500;
const asRecipe = (revision: RevisionWhole) => revision.recipe as unknown as Recipe;
const same = (a: Recipe, b: Recipe) => JSON.stringify(a) === JSON.stringify(b);

/**
 * The recipe being edited, and its way to the server. Edits, moves through the history and saves are done one after
 * the other, in the order they were asked for; what the server does not have is kept in the browser.
 */
export function createDraft(server: Server, keeper: Keeper) {
  return create<Draft>((set, get) => {
    let owner: string | null = null;
    /** Settled edits that the server does not have, the oldest first. */
    let waiting: Recipe[] = [];
    /** The recipe holds a change that has not settled. */
    let loose = false;
    /** A drag was given up: what its control still tells until it is let go is not meant. */
    let givenUp = false;
    /** What was undone here before the server had it, and marks of what it undid itself; the newest last. */
    let undone: (Recipe | "server")[] = [];
    /** The same as it was before the change that has not settled. */
    let undoneBefore = undone;
    let later: Later[] = [];
    let sending = false;
    /** What the waiting edits were begun upon, where that is not the head. */
    let begun: Recipe | null = null;
    /** What was sent without an answer: it may have reached the server. */
    let unanswered: Recipe | null = null;
    let working: Promise<void> | null = null;
    let failures = 0;
    let retry: ReturnType<typeof setTimeout> | undefined;
    let keeping: Promise<void> = Promise.resolve();
    let watching = new AbortController();
    /** Places that this page set; false where somebody else set them since. What is set in a step of its own is, too. */
    let own = new Map<string, boolean>();
    /** What is being opened, while it is looked for what was kept of it. */
    let opening: { shot: number; person: string | null; head: RevisionWhole } | null = null;

    function show(change: Partial<Draft> = {}): void {
      const { head } = { ...get(), ...change };
      const local = waiting.length > 0 || loose;
      const unsaved = local || later.some((entry) => "change" in entry);
      set({
        unsaved,
        moving: loose,
        // Where nothing is left to be saved, nothing failed to be.
        ...(unsaved || later.length ? {} : { problem: null }),
        canUndo: local || Boolean(head?.parent),
        canRedo: undone.length > 0 || (!local && Boolean(head?.redo)),
        ...change,
      });
    }

    /** Writes follow each other, so that the last one counts. */
    function keep(): void {
      const { shot, head, recipe } = get();
      if (!head || !owner) return;
      const recipes = loose ? [...waiting, recipe] : [...waiting];
      const kept: Kept = { shot, owner, base: head.number, begun: begun ?? asRecipe(head), recipes };
      keeping = keeping
        .then(() => (recipes.length ? keeper.keep(kept) : keeper.forget(shot)))
        .catch(() => undefined);
    }

    function settleHere(): void {
      if (!loose) return;
      loose = false;
      const { recipe } = get();
      const before = settled();
      // What was put back to what it was is no step of the history.
      if (same(before, recipe)) set({ recipe: before });
      else {
        for (const where of changesOf(before, recipe).keys()) own.set(where, true);
        waiting = [...waiting, recipe];
      }
    }

    /** Note what of this page's own somebody else's revision sets otherwise than the one before it. */
    function compare(before: RevisionWhole | null, theirs: RevisionWhole): void {
      if (!before || theirs.by === owner) return;
      const places: Overridden["places"] = [];
      for (const [where, told] of changesOf(asRecipe(before), asRecipe(theirs))) {
        if (own.get(where) ?? own.get(wholeOf(where)))
          places.push({ where, mine: told.before, theirs: told.now });
        own.set(where, false);
      }
      if (!places.length) return;
      const known = get().overridden?.places ?? [];
      const others = known.filter(({ where }) => !places.some((place) => place.where === where));
      set({ overridden: { revision: theirs, places: [...places, ...others] } });
    }

    /** What there is without the change that has not settled. */
    function settled(): Recipe {
      const { head } = get();
      return waiting.at(-1) ?? (head ? asRecipe(head) : EMPTY);
    }

    function apply(change: Change, done: boolean): void {
      const recipe = change(get().recipe);
      if (recipe !== get().recipe) {
        if (!loose) undoneBefore = undone;
        loose = true;
        undone = [];
        // Told together: whoever is told of the recipe has to know whether more is to come.
        set({ recipe, moving: !done });
      }
      if (done) settleHere();
      keep();
      show();
    }

    /** Redo what was undone before the server had it; whether there was such a thing. */
    function redoHere(): boolean {
      const last = undone.at(-1);
      if (!last || last === "server") return false;
      undone = undone.slice(0, -1);
      waiting = [...waiting, last];
      show({ recipe: last });
      keep();
      return true;
    }

    function work(): Promise<void> {
      clearTimeout(retry);
      working ??= run().finally(() => {
        working = null;
      });
      return working;
    }

    async function run(): Promise<void> {
      while (!get().conflict && (waiting.length || later.length)) {
        const entry = later[0];
        if (waiting.length) {
          if (!(await send())) return;
        } else if (entry && "change" in entry) {
          later = later.slice(1);
          apply(entry.change, entry.done);
        } else if (entry) {
          const { head } = get();
          if (entry.way === "undo" && !entry.sure && isForeign(head)) {
            later = later.filter((other) => "change" in other || other.way !== "undo");
            set({ foreign: head });
            // What is asked for in the same breath is looked at too.
            await Promise.resolve();
          } else if (entry.way === "redo" && redoHere()) later = later.slice(1);
          else if (await moveHead(entry.way)) later = later.slice(1);
          else return;
          show();
        }
      }
    }

    async function send(): Promise<boolean> {
      const { shot, head } = get();
      const recipe = waiting[0]!;
      sending = true;
      show({ saving: true });
      try {
        const revision = await server.save(shot, head!.number, recipe);
        if (get().shot !== shot) return false;
        failures = 0;
        unanswered = null;
        waiting = waiting.slice(1);
        set({ head: revision, stamp: get().stamp + 1, problem: null });
        keep();
        return true;
      } catch (error) {
        if (get().shot !== shot) return false;
        if (away(error)) unanswered = recipe;
        return await failed(error);
      } finally {
        sending = false;
        if (get().shot === shot) show({ saving: false });
      }
    }

    async function moveHead(way: Way): Promise<boolean> {
      const { shot, head } = get();
      show({ saving: true });
      try {
        const moved = await server.move(shot, way, head!.number);
        if (get().shot !== shot) return false;
        failures = 0;
        if (way === "undo") undone = [...undone, "server"];
        else if (undone.at(-1) === "server") undone = undone.slice(0, -1);
        set({ head: moved, recipe: asRecipe(moved), stamp: get().stamp + 1, problem: null });
        return true;
      } catch (error) {
        if (get().shot !== shot) return false;
        if (error instanceof ApiError && error.problem.code === "no_more") return true;
        return await failed(error);
      } finally {
        if (get().shot === shot) show({ saving: false });
      }
    }

    /** Answers whether to go on at once. */
    async function failed(error: unknown): Promise<boolean> {
      const problem = problemOf(error);
      if (problem.code === "conflict") {
        const { shot } = get();
        try {
          const head = await server.head(shot);
          if (get().shot !== shot) return false;
          if (unanswered && same(unanswered, asRecipe(head))) return reached(head);
          return meet(problem, head);
        } catch (second) {
          return failed(second);
        }
      }
      set({ problem });
      // A server that is away comes back; what it refuses, it refuses again.
      if (away(error)) {
        retry = setTimeout(() => void work(), RETRY_MS[Math.min(failures, RETRY_MS.length - 1)]);
        failures += 1;
      }
      return false;
    }

    const isForeign = (head: RevisionWhole | null) =>
      Boolean(head?.parent && owner && head.by && head.by !== owner);

    /** The revision in the way is this page's own: only the answer was lost. */
    function reached(head: RevisionWhole): boolean {
      if (waiting[0] && same(waiting[0], asRecipe(head))) waiting = waiting.slice(1);
      unanswered = null;
      set({ head, stamp: get().stamp + 1, problem: null });
      keep();
      return true;
    }

    /** Another revision came in between: it is put together with what is here, or a choice is left. Whether to go on. */
    function meet(problem: Problem, theirs: RevisionWhole): boolean {
      const before = get().head;
      // What was only undone or redone here is no work that could be lost.
      if (!waiting.length && !loose) {
        later = later.filter((entry) => "change" in entry);
        compare(before, theirs);
        show({ head: theirs, recipe: asRecipe(theirs), stamp: get().stamp + 1 });
        return true;
      }
      const found = together(theirs, "mine");
      if (found?.clashes.length === 0) {
        compare(before, theirs);
        join(theirs, found.recipe);
        show({ merged: theirs });
        return true;
      }
      show({ conflict: { problem, head: theirs, clashes: found?.clashes ?? null, aside: false } });
      return false;
    }

    /** This work and another revision in one; null where it is not known what both began with. */
    function together(theirs: RevisionWhole, prefer: "mine" | "theirs"): Merged | null {
      const { head, recipe } = get();
      const base = begun ?? (head && head.number !== theirs.number ? asRecipe(head) : null);
      return base && merge(base, recipe, asRecipe(theirs), prefer);
    }

    /** One recipe, made of this work and another revision, waits to be saved upon that. */
    function join(theirs: RevisionWhole, recipe: Recipe): void {
      loose = false;
      undone = [];
      begun = null;
      waiting = same(recipe, asRecipe(theirs)) ? [] : [recipe];
      show({ head: theirs, recipe, conflict: null, problem: null, stamp: get().stamp + 1 });
      keep();
    }

    function put(head: RevisionWhole): void {
      begun = null;
      waiting = [];
      undone = [];
      later = [];
      loose = false;
      show({ head, recipe: asRecipe(head), conflict: null, problem: null, stamp: get().stamp + 1 });
      keep();
    }

    /** Begin with the head, and with what was kept upon it or an earlier one. */
    function resume(shot: number, head: RevisionWhole, found: Kept | null): void {
      begun = null;
      waiting = [];
      undone = [];
      later = [];
      loose = false;
      givenUp = false;
      own = new Map();
      const start = {
        shot,
        head,
        conflict: null,
        merged: null,
        heard: null,
        overridden: null,
        foreign: null,
        problem: null,
        saving: false,
        restored: false,
      };
      // A save whose answer was lost may have reached the server.
      const arrived = found ? found.recipes.findLastIndex((recipe) => same(recipe, asRecipe(head))) : -1;
      const rest = found?.recipes.slice(arrived + 1) ?? [];
      if (!rest.length) {
        show({ ...start, recipe: asRecipe(head), stamp: get().stamp + 1 });
        keep();
        return;
      }
      waiting = rest;
      show({ ...start, recipe: rest.at(-1)!, restored: true, stamp: get().stamp + 1 });
      const newer = found!.base !== head.number && arrived < 0;
      begun = newer ? (found!.begun ?? null) : null;
      const problem = {
        code: "conflict",
        message: `Revision ${head.number} was saved while your change waited in this browser: ${head.sentence}`,
        where: "recipe",
        remedy: "take that revision and lose your change, or save yours on top of it",
      };
      if (!newer || meet(problem, head)) void work();
    }

    /** Work of a page that goes only later is taken up once it is gone, if nothing of this page's own is under way. */
    function watch(shot: number, person: string): void {
      watching.abort();
      watching = new AbortController();
      const { signal } = watching;
      const idle = async () => {
        while (waiting.length || loose || later.length || working || get().conflict) {
          if (signal.aborted) return false;
          await new Promise((resolve) => setTimeout(resolve, IDLE_MS));
        }
        return !signal.aborted && get().shot === shot && get().head !== null;
      };
      const take = async () => {
        if (!(await idle())) return;
        const found = await keeper.find(shot, person).catch(() => null);
        // In the meantime this page may have gone on.
        if (found && (await idle())) resume(shot, get().head!, found);
      };
      void keeper.watch?.(shot, person, () => void take(), signal);
    }

    if (typeof window !== "undefined") window.addEventListener("online", () => void work());

    return {
      shot: 0,
      head: null,
      recipe: EMPTY,
      unsaved: false,
      moving: false,
      saving: false,
      canUndo: false,
      canRedo: false,
      restored: false,
      conflict: null,
      merged: null,
      heard: null,
      overridden: null,
      foreign: null,
      problem: null,
      stamp: 0,
      open: async (shot, head, person) => {
        // Asked for again while a page on its way out is waited for, it is opened once, as the server told it last.
        if (opening?.shot === shot && opening.person === person) {
          opening.head = head;
          return;
        }
        const asked = { shot, person, head };
        opening = asked;
        const found = person ? await keeper.find(shot, person).catch(() => null) : null;
        if (opening !== asked) return;
        opening = null;
        clearTimeout(retry);
        owner = person;
        failures = 0;
        unanswered = null;
        if (person) watch(shot, person);
        resume(shot, asked.head, found);
      },
      hear: (head, stamp) => {
        const state = get();
        if (stamp !== state.stamp || state.unsaved || working || state.conflict) return;
        if (head.number === state.head?.number) show({ head });
        else {
          compare(state.head, head);
          put(head);
          show({ heard: head });
        }
      },
      edit: (shown, done = true) => {
        // What is changed is what is seen, at the frame that is seen: what moves gets its key there.
        const { frame } = useTime.getState();
        get().editKeys((recipe) => changedAt(recipe, shown, frame), done);
      },
      editKeys: (change, done = true) => {
        if (givenUp) return;
        // What is asked for after a move through the history is done upon what that leads to.
        if (later.length) {
          later = [...later, { change, done }];
          show();
        } else apply(change, done);
        if (done) void work();
      },
      giveUp: () => {
        if (!loose) return false;
        loose = false;
        givenUp = true;
        undone = undoneBefore;
        // Of the same drag, told while a move through the history was on its way.
        later = later.filter((entry) => !("change" in entry) || entry.done);
        show({ recipe: settled() });
        keep();
        return true;
      },
      letGo: () => {
        givenUp = false;
      },
      settle: () => {
        if (!later.length) settleHere();
        keep();
        show();
        void work();
      },
      undo: (sure = false) => {
        set({ foreign: null });
        if (get().conflict) return;
        if (!later.length) {
          settleHere();
          if (waiting.length > (sending ? 1 : 0)) {
            undone = [...undone, waiting.at(-1)!];
            waiting = waiting.slice(0, -1);
            show({ recipe: waiting.at(-1) ?? asRecipe(get().head!) });
            keep();
            return;
          }
        }
        later = [...later, { way: "undo", sure }];
        show();
        void work();
      },
      redo: () => {
        if (get().conflict) return;
        if (later.length || !redoHere()) later = [...later, { way: "redo" }];
        show();
        void work();
      },
      takeTheirs: (alone = false) => {
        const theirs = get().conflict?.head;
        if (!theirs) return;
        const found = alone ? null : together(theirs, "theirs");
        if (!found) put(theirs);
        else {
          join(theirs, found.recipe);
          void work();
        }
      },
      keepMine: () => {
        const theirs = get().conflict?.head;
        if (!theirs) return;
        join(theirs, together(theirs, "mine")?.recipe ?? get().recipe);
        void work();
      },
      setAside: (aside) => {
        const { conflict } = get();
        if (conflict) set({ conflict: { ...conflict, aside } });
      },
      dismiss: () => set({ problem: null, restored: false, merged: null, heard: null, overridden: null }),
      leaveForeign: () => set({ foreign: null }),
      finished: async () => {
        if (!later.length) settleHere();
        keep();
        show();
        await work();
        await keeping;
        return !get().unsaved;
      },
    };
  });
}

export const useDraft = createDraft(realServer, browserKeeper);
