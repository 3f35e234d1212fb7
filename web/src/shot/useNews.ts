import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";

import { api, got, problemOf } from "@/api/client";

import { notesKey } from "@/notes/notes";

import { useDraft } from "./draft";

const [BUSY_MS, CALM_MS, STIRRED_MS] = [1000, 5000, 15_000];

/** Waits until nothing is being saved. */
function saved(): Promise<void> {
  return new Promise((resolve) => {
    if (!useDraft.getState().saving) return resolve();
    const stop = useDraft.subscribe((draft) => {
      if (draft.saving) return;
      stop();
      resolve();
    });
  });
}

const shownHead = () => useDraft.getState().head?.number;

/** The revisions that this page shows from now on, until it is told to note no more. */
function shownFromNow(): { shown: Set<number | undefined>; stop: () => void } {
  const shown = new Set([shownHead()]);
  return { shown, stop: useDraft.subscribe(() => shown.add(shownHead())) };
}

/**
 * What changed in a shot, by whomever: asked every second for a while after something did, else every five, by one cheap
 * question; what it tells of is fetched anew.
 */
export function useNews(shot: number): void {
  const client = useQueryClient();
  useEffect(() => {
    let number = 0;
    let stirred = -Infinity;
    let timer: ReturnType<typeof setTimeout> | undefined;
    let gone = false;
    const ask = async () => {
      const { shown, stop } = shownFromNow();
      try {
        const answer = await got(
          api.GET("/api/shots/{shot_id}/news", {
            params: { path: { shot_id: shot }, query: { since: number } },
          }),
        );
        const { what } = answer;
        let overtaken = false;
        if (what.length) stirred = performance.now();
        if (what.includes("revision")) {
          // What this page saved itself is no news, also where the answer to that is still on its way.
          await saved();
          const passed = answer.head !== shownHead();
          // What was saved here while the question was on its way makes its answer one of before: it is asked again.
          overtaken = passed && shown.has(answer.head);
          if (passed && !overtaken) void client.invalidateQueries({ queryKey: ["shot", shot] });
        }
        if (!overtaken) number = answer.number;
        if (what.includes("sources")) void client.invalidateQueries({ queryKey: ["sources", shot] });
        if (what.includes("notes")) void client.invalidateQueries({ queryKey: notesKey(shot) });
        if (what.includes("renders")) void client.invalidateQueries({ queryKey: ["deliverables", shot] });
      } catch (error) {
        // What can't be asked now is asked again: the number says since when. What is gone is told by the shot itself.
        if (problemOf(error).code === "not_found")
          void client.invalidateQueries({ queryKey: ["shot", shot] });
      } finally {
        stop();
      }
      if (!gone)
        timer = setTimeout(() => void ask(), performance.now() - stirred < STIRRED_MS ? BUSY_MS : CALM_MS);
    };
    void ask();
    return () => {
      gone = true;
      clearTimeout(timer);
    };
  }, [client, shot]);
}
