import { type ShotWhole, api, got } from "@/api/client";
import { itemsQuery, sessionQuery, sourcesQuery } from "@/api/queries";
import { queries } from "@/api/queryClient";
import type { Recipe } from "@/api/recipe";
import { beginPainting } from "@/stage/painter";
import { lookedAt } from "@/time/keys";

import { useDraft } from "./draft";

/** An answer that nobody took for so long is too old. */
const FRESH_MS = 5000;

let early: { shot: number; answer: Promise<ShotWhole>; asked: number } | null = null;

/** Ask for what a page needs first, as soon as its program is there: nothing of it waits for another. */
export function askEarly(path: string): void {
  const shot = Number(/^\/shots\/(\d+)\/?$/.exec(path)?.[1]);
  if (!shot) return;
  void queries.prefetchQuery(sessionQuery);
  void queries.prefetchQuery(sourcesQuery(shot));
  beginPainting();
  const mine = { shot, answer: asked(shot), asked: performance.now() };
  early = mine;
  mine.answer.catch(() => {
    // Such as by somebody who is not signed in yet: it is asked for again.
    if (early === mine) early = null;
  });
}

/** A shot as the server has it now: what was asked for early, once, or else asked for. */
export function shotNow(shot: number): Promise<ShotWhole> {
  const mine = early;
  early = null;
  return mine?.shot === shot && performance.now() - mine.asked < FRESH_MS ? mine.answer : asked(shot);
}

/** The frame that a shot is opened at: as its address says, else its first. */
export function openedAt(whole: ShotWhole): number {
  const frame = new URLSearchParams(window.location.search).get("frame");
  return frame && Number.isInteger(Number(frame)) ? Number(frame) : whole.first_frame;
}

async function asked(shot: number): Promise<ShotWhole> {
  const whole = await got(api.GET("/api/shots/{shot_id}", { params: { path: { shot_id: shot } } }));
  const draft = useDraft.getState();
  if (draft.shot !== shot || !draft.head) {
    // What its items are is asked for while the page is drawn.
    const recipe = whole.head.recipe as unknown as Recipe;
    void queries.prefetchQuery(itemsQuery(shot, lookedAt(recipe, openedAt(whole))));
  }
  return whole;
}
