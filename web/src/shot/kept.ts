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
    // Loaded anew, its former document may hold the lock for a moment yet, or who watches it.
    const signal = AbortSignal.timeout(FORMER_MS);
    navigator.locks
      .request(lockOf(wanted), { signal }, () => take(wanted))
      .catch(() => {
        // The page was duplicated: the other one keeps the name.
        const fresh = crypto.randomUUID();
        void navigator.locks.request(lockOf(fresh), () => take(fresh));
      });
  });
  return page;
}

/**
 * How long a page that is just closing may take to be gone, one that is loaded anew to be back, and its former document
 * to be gone before it goes by another name.
 */
const [CLOSING_MS, BACK_MS, FORMER_MS] = [3000, 15_000, 500];

const lockOf = (name: string) => `nexal-page-${name}`;

async function isHeld(name: string): Promise<boolean> {
  const { held } = await navigator.locks.query();
  return Boolean(held?.some((lock) => lock.name === lockOf(name)));
}

type Entry = [key: [shot: number, page: string], kept: Kept];

/** What other pages keep of somebody's work on a shot. */
async function ofOthers(shot: number, owner: string): Promise<Entry[]> {
  const mine = await pageName();
  const all = await entries<[number, string], Kept>(store());
  return all.filter(([key, kept]) => key[0] === shot && key[1] !== mine && kept.owner === owner);
}

/** What a page kept that is gone, under this page's name from now on; a page on its way out (closed, crashed) is waited for. */
async function takenOver([key]: Entry): Promise<Kept | null> {
  const mine = await pageName();
  const take = async () => {
    // While it was waited for, the page may have saved after all, or another one may have been quicker.
    const left = await get<Kept>(key, store());
    if (!left) return null;
    await set([key[0], mine], left, store());
    await del(key, store());
    return left;
  };
  if (!("locks" in navigator)) return take();
  // Its lock is had for as long as it is taken over: of two pages that wait for it one alone does.
  return navigator.locks
    .request(lockOf(key[1]), { signal: AbortSignal.timeout(CLOSING_MS) }, take)
    .catch(() => null);
}

/** Who begins to keep work tells the other pages: one that was opened before watches it too. */
interface Beginning {
  shot: number;
  owner: string;
  page: string;
}
const CHANNEL = "nexal-keeping";
const told = new Set<number>();

function tell(beginning: Beginning): void {
  if (told.has(beginning.shot) || !("BroadcastChannel" in window)) return;
  told.add(beginning.shot);
  const channel = new BroadcastChannel(CHANNEL);
  channel.postMessage(beginning);
  channel.close();
}

/** In the browser's own database: unlike its other store it holds recipes of any size. */
export const browserKeeper: Keeper = {
  keep: async (kept) => {
    const mine = await pageName();
    await set([kept.shot, mine], kept, store());
    tell({ shot: kept.shot, owner: kept.owner, page: mine });
  },
  forget: async (shot) => {
    told.delete(shot);
    await del([shot, await pageName()], store());
  },
  find: async (shot, owner) => {
    const mine = await pageName();
    const own = await get<Kept>([shot, mine], store());
    if (own?.owner === owner) return own;
    for (const entry of await ofOthers(shot, owner)) {
      const left = await takenOver(entry);
      if (!left) continue;
      tell({ shot, owner, page: mine });
      return left;
    }
    return null;
  },
  watch: async (shot, owner, left, signal) => {
    if (!("locks" in navigator)) return;
    const mine = await pageName();
    if (signal.aborted) return;
    const watched = new Set([mine]);
    const look = async () => {
      for (const [key] of await ofOthers(shot, owner)) follow(key[1]);
    };
    const follow = (name: string) => {
      if (signal.aborted || watched.has(name)) return;
      watched.add(name);
      // Who is no longer asked after is given up.
      void gone(name).catch(() => undefined);
    };
    const gone = async (name: string) => {
      do {
        await navigator.locks.request(lockOf(name), { mode: "shared", signal }, () => undefined);
        // One that is only loaded anew comes back for its work.
        await new Promise((resolve) => setTimeout(resolve, BACK_MS));
      } while (await isHeld(name));
      watched.delete(name);
      if (signal.aborted) return;
      if (await get<Kept>([shot, name], store())) left();
      // It may have come back under another name, or another page took its work up: that one is watched now.
      else await look();
    };
    if ("BroadcastChannel" in window) {
      const channel = new BroadcastChannel(CHANNEL);
      channel.onmessage = ({ data }: MessageEvent<Beginning>) => {
        if (data.shot === shot && data.owner === owner) follow(data.page);
      };
      signal.addEventListener("abort", () => channel.close());
    }
    await look();
  },
};
