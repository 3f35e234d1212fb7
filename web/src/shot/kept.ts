import { createStore, del, entries, get, set } from "idb-keyval";

import type { Recipe } from "@/api/recipe";

/** Work that the server does not have yet, as this browser keeps it: through a reload, a crash, or a way offline. */
export interface Kept {
  shot: number;
  /** Whose work it is. */
  owner: string;
  /** The number of the revision that it was made upon. */
  base: number;
  /** The recipe of that revision. */
  begun?: Recipe;
  /** What each edit made of the recipe, the oldest first. */
  recipes: Recipe[];
}

/** Where unsaved work is kept. */
export interface Keeper {
  keep: (kept: Kept) => Promise<void>;
  forget: (shot: number) => Promise<void>;
  /** What this page kept of a shot, or a page that is gone by now. */
  find: (shot: number, owner: string) => Promise<Kept | null>;
}

const store = () => createStore("nexal-unsaved", "recipes");

/** A page's own name: it survives a reload, and no two open pages have the same. */
let page: Promise<string> | null = null;

function pageName(): Promise<string> {
  page ??= new Promise((resolve) => {
    const wanted = sessionStorage.getItem("nexal-page") ?? crypto.randomUUID();
    const take = (name: string) => {
      sessionStorage.setItem("nexal-page", name);
      resolve(name);
      // Held until the page is gone.
      return new Promise<never>(() => undefined);
    };
    if (!("locks" in navigator)) {
      void take(wanted);
      return;
    }
    void navigator.locks.request(`nexal-page-${wanted}`, { ifAvailable: true }, (lock) => {
      if (lock) return take(wanted);
      // The page was duplicated: the other one keeps the name.
      const fresh = crypto.randomUUID();
      void navigator.locks.request(`nexal-page-${fresh}`, () => take(fresh));
      return undefined;
    });
  });
  return page;
}

/** How long a page that is just closing may take to be gone. */
const CLOSING_MS = 3000;

/** Whether a page is gone; one that is on its way out (closed, crashed) is waited for. */
async function isGone(name: string): Promise<boolean> {
  if (!("locks" in navigator)) return true;
  const { held } = await navigator.locks.query();
  if (!held?.some((lock) => lock.name === `nexal-page-${name}`)) return true;
  return navigator.locks
    .request(`nexal-page-${name}`, { mode: "shared", signal: AbortSignal.timeout(CLOSING_MS) }, () => true)
    .catch(() => false);
}

/** In the browser's own database: unlike its other store it holds recipes of any size. */
export const browserKeeper: Keeper = {
  keep: async (kept) => set([kept.shot, await pageName()], kept, store()),
  forget: async (shot) => del([shot, await pageName()], store()),
  find: async (shot, owner) => {
    const mine = await pageName();
    const own = await get<Kept>([shot, mine], store());
    if (own?.owner === owner) return own;
    for (const [key, kept] of await entries<[number, string], Kept>(store())) {
      if (key[0] !== shot || kept.owner !== owner || !(await isGone(key[1]))) continue;
      // While it was waited for, the page may have saved after all.
      const left = await get<Kept>(key, store());
      if (!left) continue;
      await set([shot, mine], left, store());
      await del(key, store());
      return left;
    }
    return null;
  },
};
