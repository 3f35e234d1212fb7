import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";

import { type ShotWhole, api, got } from "@/api/client";
import type { Recipe } from "@/api/recipe";
import { useGo } from "@/app/address";
import { openedAt } from "@/shot/early";
import { useDraftSources } from "@/shot/sources";

import { toggleKeys } from "./editing";
import { type Range, barsOf, wholeRange, workRange } from "./range";
import { goTo, playOrStop, useTime } from "./timeState";

const SETTLED_MS = 250;

/** Where in time a shot is looked at: its frame, which stands in the address, and all frames that it has. */
export function useShotTime(whole: ShotWhole, recipe: Recipe) {
  const rows = useDraftSources();
  const frame = useTime((state) => state.frame);
  const go = useGo();
  const client = useQueryClient();
  const [own, setOwn] = useState<Range | null>(ownOf(whole));
  useEffect(() => {
    setOwn(
      ownOf({ own_range: whole.own_range, first_frame: whole.first_frame, last_frame: whole.last_frame }),
    );
  }, [whole.own_range, whole.first_frame, whole.last_frame]);
  const bars = useMemo(() => barsOf(recipe, rows), [recipe, rows]);
  const all = useMemo(() => wholeRange(recipe, bars, own), [recipe, bars, own]);
  const [first, last] = workRange(all, bars, own);

  useEffect(() => {
    useTime.getState().reset(openedAt(whole));
    // Another shot begins at its own frame; what the address says later is heard below.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [whole.id]);
  useEffect(() => {
    // Back and on in the browser's history. What is written there by this page is behind what was gone to since.
    const heard = () => {
      const to = Number(new URLSearchParams(window.location.search).get("frame") ?? Number.NaN);
      if (Number.isInteger(to)) goTo(to);
    };
    window.addEventListener("popstate", heard);
    return () => window.removeEventListener("popstate", heard);
  }, []);
  useEffect(() => {
    const timer = setTimeout(() => {
      const now = new URLSearchParams(window.location.search).get("frame");
      if (String(frame) === (now ?? String(whole.first_frame))) return;
      go({ frame: String(frame) }, { replace: true });
    }, SETTLED_MS);
    return () => clearTimeout(timer);
  }, [frame, go, whole.first_frame]);
  useEffect(() => {
    useTime.getState().change({ range: [first, last] });
  }, [first, last]);

  const told = bars.find((bar) => bar.rate)?.rate;
  useEffect(() => {
    if (told) useTime.getState().change({ rate: Math.round(told * 1000) / 1000 });
  }, [whole.id, told]);

  const save = useMutation({
    mutationFn: (range: Range | null) => {
      const params = { path: { shot_id: whole.id } };
      return range
        ? got(api.PUT("/api/shots/{shot_id}/range", { params, body: { first: range[0], last: range[1] } }))
        : got(api.DELETE("/api/shots/{shot_id}/range", { params }));
    },
    onSettled: () => client.invalidateQueries({ queryKey: ["shot", whole.id] }),
  });
  /** Set the range, or let it follow the sources again. */
  const setRange = (range: Range | null) => {
    setOwn(range);
    if (range) useTime.getState().change({ range });
    save.mutate(range);
  };
  return { frame, all, bars, own, setRange };
}

/** The range that a person gave a shot. */
const ownOf = (whole: Pick<ShotWhole, "own_range" | "first_frame" | "last_frame">): Range | null =>
  whole.own_range ? [whole.first_frame, whole.last_frame] : null;

/** What the keys do in time: a frame back or on, play or stop, a key of the setting in focus or of all that moves. */
export function timeKeys(all: Range | null, item: string | null, writable: boolean) {
  const step = (by: number) => () => {
    if (!all) return;
    const { frame, playhead } = useTime.getState();
    goTo(Math.min(all[1], Math.max(all[0], (playhead ?? frame) + by)));
  };
  return {
    back: step(-1),
    on: step(1),
    play: () => all && playOrStop(),
    key: (target: Element) => {
      if (!item || !writable) return;
      const setting = target.closest("[data-setting]");
      if (setting) setting.querySelector<HTMLButtonElement>("[data-notch]")?.click();
      else toggleKeys(item);
    },
  };
}
