import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";

import { type Bytes, type Item, type Problem, api, got, postForBytes, problemOf } from "@/api/client";
import { keepWhileSame } from "@/api/queries";
import { type Recipe, drafted } from "@/api/recipe";

import { type Planes, planesIn } from "./painting";
import { smallPlanes } from "./smallPictures";
import { alike, covers, joined, missing } from "./reuse";
import { type DiagnosedAs, useView } from "./viewState";

export interface ViewAsk {
  recipe: Recipe;
  address: string;
  scale: number;
  region?: [number, number, number, number];
  channels?: string[] | null;
  fringe?: DiagnosedAs | null;
  /** What speaks for a diagnosis, and an alpha that came apart. */
  evidence?: "brighter" | "under";
  alpha?: string | null;
  /** Let what a slow step makes of a small proxy stand in until it is computed. */
  rough?: boolean;
  /** Name of the asking view: its next request supersedes this one. */
  view?: string;
}

/** Tells this tab's views from those of another tab of the same session. */
const TAB = Math.random().toString(36).slice(2);

/** A view's name that no other tab of the same session has. */
export function ownView(name: string): string {
  return `${TAB}-${name}`;
}

/** Ask the server for planes. */
export async function fetchPlanes(shot: number, ask: ViewAsk, signal?: AbortSignal): Promise<Planes> {
  const body = { ...ask, ...drafted(ask.recipe), view: ask.view && ownView(ask.view) };
  return readPlanes(await postForBytes(`/api/shots/${shot}/view`, body, signal));
}

export function readPlanes({ headers, bytes }: Bytes): Planes {
  return planesIn(JSON.parse(headers.get("X-Nexal-View") ?? "{}") as Omit<Planes, "samples">, bytes);
}

/** Planes of an item that follow what is asked for. Of another part of the same, only what is not there is fetched. */
export function useLivePlanes(shot: number, ask: ViewAsk | null) {
  const arrivals = useView((state) => state.arrivals);
  const place = ask ? JSON.stringify([shot, ask.address, ask.channels, ask.scale, ask.region]) : "";
  const last = useRef<{ of: string; planes: Planes } | null>(null);
  return useFollowed(
    ask ? JSON.stringify([shot, ask, arrivals]) : "",
    async (signal) => {
      const of = JSON.stringify([shot, { ...ask!, region: null }, arrivals]);
      const there = last.current?.of === of ? last.current.planes : null;
      const planes = await fetchMissing(shot, { ...ask!, rough: true }, there, signal);
      // Of what only a part is looked at now, all is still there when one looks back.
      if (!there || there.pending || !covers(there.region, planes.region)) last.current = { of, planes };
      return planes;
    },
    place,
  );
}

async function fetchMissing(
  shot: number,
  ask: ViewAsk,
  there: Planes | null,
  signal: AbortSignal,
): Promise<Planes> {
  const rest = there && ask.region && !there.pending ? missing(there.region, ask.region) : null;
  if (rest) {
    const parts = await Promise.all(
      // The parts of one picture do not supersede each other.
      rest.map((region, index) =>
        fetchPlanes(shot, { ...ask, region, ...(ask.view ? { view: `${ask.view}-${index}` } : {}) }, signal),
      ),
    );
    if (alike([there!, ...parts])) return joined([there!, ...parts], ask.region!);
  }
  return fetchPlanes(shot, ask, signal);
}

/** What is answered sooner is not late: a word that comes and goes with each step of a drag is only a flicker. */
const SOON_MS = 300;

interface Followed {
  planes: Planes | null;
  problem: Problem | null;
  /** Something is asked for; and for so long that it is worth a word. */
  busy: boolean;
  late: boolean;
}

const NOTHING: Followed = { planes: null, problem: null, busy: false, late: false };

interface Wish {
  fetch: (signal: AbortSignal) => Promise<Planes>;
  key: string;
  place: string;
}

/**
 * Planes that follow a wish: one request at a time, and as soon as it is answered the newest wish, so that what is
 * dragged is followed at whatever rate the server has. What is wanted of another place (another item, another part) is
 * not worth waiting for: its request is given up, and the new one goes at once. The last picture stays meanwhile. The
 * key stands for the wish; an empty one wants nothing.
 */
export function useFollowed(key: string, fetch: (signal: AbortSignal) => Promise<Planes>, place = "") {
  const [state, setState] = useState(NOTHING);
  const wish = useRef<Wish | null>(null);
  const flight = useRef<{ place: string; abort: AbortController } | null>(null);
  const answered = useRef("");
  const running = useRef(false);
  const gone = useRef(false);

  useEffect(() => {
    gone.current = false;
    return () => {
      gone.current = true;
      flight.current?.abort.abort();
    };
  }, []);

  useEffect(() => {
    wish.current = key ? { fetch, key, place } : null;
    if (flight.current && flight.current.place !== place) flight.current.abort.abort();
    if (!key) {
      answered.current = "";
      setState(NOTHING);
      return;
    }
    async function follow(): Promise<void> {
      if (running.current) return;
      running.current = true;
      while (wish.current && wish.current.key !== answered.current && !gone.current) {
        const mine = wish.current;
        const abort = new AbortController();
        flight.current = { place: mine.place, abort };
        setState((before) => ({ ...before, busy: true }));
        const late = setTimeout(() => setState((before) => ({ ...before, late: true })), SOON_MS);
        try {
          const planes = await mine.fetch(abort.signal);
          answered.current = mine.key;
          const busy = wish.current?.key !== mine.key;
          if (wish.current) setState({ planes, problem: planes.pending ?? null, busy, late: false });
        } catch (error) {
          const problem = problemOf(error);
          answered.current = mine.key;
          if (problem.code !== "cancelled")
            setState((before) => ({ ...before, problem, busy: false, late: false }));
          else if (wish.current?.key === mine.key && !gone.current) answered.current = "";
        } finally {
          clearTimeout(late);
        }
      }
      flight.current = null;
      running.current = false;
    }
    void follow();
    // The key stands for the wish.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [key]);

  return state;
}

/** Small planes of an item, kept by what they were computed from: unchanged items are not asked for again. */
export function useSmallPlanes(shot: number, item: Item | undefined, address: string, enabled = true) {
  const digest = item?.digest ?? "";
  return useQuery({
    queryKey: ["small", shot, digest, address.includes(".") ? address : ""],
    queryFn: ({ signal }) => smallPlanes(shot, item!.of, address, signal),
    enabled: enabled && digest !== "",
    staleTime: Infinity,
    gcTime: 120_000,
    retry: 1,
  });
}

/** Skyline and ends of an item, kept by what they were computed from. */
export function useHistogram(shot: number, item: Item | undefined, address: string, enabled: boolean) {
  const digest = item?.digest ?? "";
  return useQuery({
    queryKey: ["skyline", shot, digest, address],
    queryFn: () =>
      got(
        api.POST("/api/shots/{shot_id}/histogram", {
          params: { path: { shot_id: shot } },
          body: {
            ...drafted(item!.of),
            address,
            domain: "display",
            bins: 64,
            low: 0,
            high: 1,
            marks: [],
          },
        }),
      ),
    enabled: enabled && digest !== "",
    // The numbers of before stand until the new ones are here.
    placeholderData: keepWhileSame(3, address),
    staleTime: Infinity,
    gcTime: 120_000,
  });
}

/** What speaks for a diagnosis, as a small picture. */
export function useEvidence(
  shot: number,
  item: Item,
  address: string,
  evidence: "brighter" | "under",
  alpha: string | undefined,
) {
  return useQuery({
    queryKey: ["evidence", shot, item.digest, evidence, alpha],
    queryFn: () => fetchPlanes(shot, { recipe: item.of, address, scale: 4, evidence, alpha: alpha ?? null }),
    staleTime: Infinity,
    gcTime: 60_000,
    retry: false,
  });
}

/** Small planes of a draft that is not in the recipe, kept by a key of all that it is computed from. */
export function useVariant(shot: number, draft: { recipe: Recipe; address: string } | null, key: string) {
  return useQuery({
    queryKey: ["variant", shot, key],
    queryFn: () => fetchPlanes(shot, { recipe: draft!.recipe, address: draft!.address, scale: 8 }),
    enabled: draft !== null,
    staleTime: Infinity,
    gcTime: 60_000,
    retry: 1,
  });
}
