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
  /** Tells once a page is gone that kept work of a shot and was still there when it was looked for. */
  watch?: (shot: number, owner: string, left: () => void, signal: AbortSignal) => Promise<void>;
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
    void navigator.locks.request(lockOf(wanted), { ifAvailable: true }, (lock) => {
      if (lock) return take(wanted);
      // The page was duplicated: the other one keeps the name.
      const fresh = crypto.randomUUID();
      void navigator.locks.request(lockOf(fresh), () => take(fresh));
      return undefined;
    });
  });
  return page;
}

/** How long a page that is just closing may take to be gone, and one that is loaded anew to be back. */
const [CLOSING_MS, BACK_MS] = [3000, 15_000];

const lockOf = (name: string) => `nexal-page-${name}`;

async function isHeld(name: string): Promise<boolean> {
  const { held } = await navigator.locks.query();
  return Boolean(held?.some((lock) => lock.name === lockOf(name)));
}

/** Whether a page is gone; one that is on its way out (closed, crashed) is waited for. */
async function isGone(name: string): Promise<boolean> {
  if (!("locks" in navigator)) return true;
  if (!(await isHeld(name))) return true;
  return navigator.locks
    .request(lockOf(name), { mode: "shared", signal: AbortSignal.timeout(CLOSING_MS) }, () => true)
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
  watch: async (shot, owner, left, signal) => {
    if (!("locks" in navigator)) return;
    const mine = await pageName();
    const of = async () =>
      (await entries<[number, string], Kept>(store())).filter(
        ([key, kept]) => key[0] === shot && key[1] !== mine && kept.owner === owner,
      );
    const gone = async (key: [number, string]) => {
      do {
        await navigator.locks.request(lockOf(key[1]), { mode: "shared", signal }, () => undefined);
        // One that is only loaded anew comes back for its work.
        await new Promise((resolve) => setTimeout(resolve, BACK_MS));
      } while (await isHeld(key[1]));
      if (!signal.aborted && (await get<Kept>(key, store()))) left();
    };
    // Who is no longer asked after is given up.
    await Promise.all((await of()).map(([key]) => gone(key).catch(() => undefined)));
  },
};
