import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";

import {
  ApiError,
  type Item,
  PAGE,
  type Problem,
  api,
  got,
  postForBytes,
  posted,
  problemOf,
} from "@/api/client";
import { keepWhileSame } from "@/api/queries";
import { type Recipe, drafted, itemOf, recipeKey } from "@/api/recipe";

import { fetchPainted } from "./painter";
import { type Look, type Planes, planesOf } from "./painting";
import { smallPlanes } from "./smallPictures";
import { alike, covers, joined, missing } from "./reuse";
import { onlyStrokesBeyond, reachOf } from "./strokes/pending";
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
  /** What is seen at this exposure will do: it comes in half as many bytes, which say no more than that. */
  exposure?: number;
  /** Name of the asking view: its next request supersedes this one. */
  view?: string;
}

const ASKED = new WeakMap<Planes, ViewAsk>();

/** What planes that a view shows were asked for with. */
export const askedFor = (planes: Planes): ViewAsk | undefined => ASKED.get(planes);

/** A view's name that no other page of the same session has. */
export function ownView(name: string): string {
  return `${PAGE}-${name}`;
}

const sent = (shot: number, ask: ViewAsk) =>
  [
    `/api/shots/${shot}/view`,
    { ...ask, ...drafted(ask.recipe), view: ask.view && ownView(ask.view) },
  ] as const;

/** Ask the server for planes. */
export async function fetchPlanes(shot: number, ask: ViewAsk, signal?: AbortSignal): Promise<Planes> {
  return planesOf(await postForBytes(...sent(shot, ask), signal));
}

/** How planes will be seen, and what that is known by. */
export interface Seen {
  look: Look;
  key: string;
}

/** The same, painted by the time they are here. */
export async function fetchSeen(
  shot: number,
  ask: ViewAsk,
  seen: Seen,
  signal: AbortSignal,
): Promise<Planes> {
  const [url, body] = sent(shot, ask);
  try {
    return await fetchPainted({ url, init: posted(body), look: seen.look }, seen.key, signal);
  } catch (error) {
    if (error instanceof ApiError) throw error;
    // The worker failed, not the server: who paints them will tell.
    return fetchPlanes(shot, ask, signal);
  }
}

/**
 * Tells what will be asked for before the page is drawn with it, as soon as it is known; returns how to end that. What
 * is dragged is on its way then while the page is still drawn.
 */
export type Sooner = (tell: (ask: ViewAsk) => void) => () => void;

/**
 * Planes of an item that follow what is asked for. Of another part of the same, only what is not there is fetched. What
 * is known to be seen somehow comes painted (`paintedAs`).
 */
export function useLivePlanes(shot: number, ask: ViewAsk | null, seen: Seen | null = null, sooner?: Sooner) {
  const arrivals = useView((state) => state.arrivals);
  const last = useRef<{ of: string; planes: Planes } | null>(null);
  const look = useRef(seen);
  useEffect(() => {
    look.current = seen;
  });
  const wishFor = (ask: ViewAsk): Wish => ({
    key: JSON.stringify([shot, keyed(ask), arrivals]),
    place: JSON.stringify([shot, ask.address, ask.channels, ask.scale, ask.region, ask.exposure]),
    fetch: async (signal) => {
      const of = JSON.stringify([shot, { ...keyed(ask), region: null }, arrivals]);
      const before = last.current?.planes ?? null;
      const there = last.current?.of === of ? before : null;
      const wanted = { ...ask, rough: true };
      const planes =
        (await fetchStrokes(shot, wanted, before, signal)) ??
        (await fetchMissing(shot, wanted, there, look.current, signal));
      ASKED.set(planes, ask);
      // Of what only a part is looked at now, all is still there when one looks back.
      if (!there || there.pending || !covers(there.region, planes.region)) last.current = { of, planes };
      return planes;
    },
  });
  const { state, follower } = useFollower(ask ? wishFor(ask) : null);
  const wishes = useRef(wishFor);
  useEffect(() => {
    wishes.current = wishFor;
  });
  useEffect(() => {
    const end = sooner?.((next) => follower.want(wishes.current(next)));
    return end;
  }, [sooner, follower]);
  return state;
}

const keyed = (ask: ViewAsk) => ({ ...ask, recipe: recipeKey(ask.recipe) });

/**
 * What strokes changed, put into the picture of before; null where something else differs. Of a long sitting with the
 * brush, only what was painted last is computed and sent.
 */
async function fetchStrokes(
  shot: number,
  ask: ViewAsk,
  before: Planes | null,
  signal: AbortSignal,
): Promise<Planes | null> {
  const asked = before && ASKED.get(before);
  if (!before || !asked || before.pending || !ask.region || !covers(before.region, ask.region)) return null;
  const about = ({ recipe: _, region: __, ...rest }: ViewAsk) => JSON.stringify(rest);
  if (about({ ...asked, rough: true }) !== about(ask)) return null;
  const strokes = onlyStrokesBeyond(asked.recipe, ask.recipe, itemOf(ask.address));
  const region = strokes && reachOf(strokes, ask.scale, ask.region);
  if (!region) return null;
  const part = await fetchPlanes(shot, { ...ask, region }, signal);
  const joinable = alike([{ ...before, digest: part.digest }, part]);
  return joinable
    ? joined([{ ...before, digest: part.digest }, part], ask.region)
    : fetchPlanes(shot, ask, signal);
}

async function fetchMissing(
  shot: number,
  ask: ViewAsk,
  there: Planes | null,
  seen: Seen | null,
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
  return seen ? fetchSeen(shot, ask, seen, signal) : fetchPlanes(shot, ask, signal);
}

/** What is answered sooner is not late: a word that comes and goes with each step of a drag is only a flicker. */
const SOON_MS = 300;

/** How long what the server gave up waits before it is asked for again: twice as long each time. */
const FIRST_PAUSE_MS = 50;
const LONGEST_PAUSE_MS = 2000;

export interface Followed {
  planes: Planes | null;
  problem: Problem | null;
  /** Something is asked for; and for so long that it is worth a word. */
  busy: boolean;
  late: boolean;
}

const NOTHING: Followed = { planes: null, problem: null, busy: false, late: false };

/** What is to be fetched; the key stands for it, and the place for where it is seen. */
export interface Wish {
  fetch: (signal: AbortSignal) => Promise<Planes>;
  key: string;
  place: string;
}

/**
 * Follows a wish: one request at a time, and as soon as it is answered the newest wish, so that what is dragged is
 * followed at whatever rate the server has. Where many ask, each answer tells when its turn comes again: what is newest
 * by then is asked for. What is wanted of another place (another item, another part, in full once it stands still) is
 * not worth waiting for: its request is given up, and the new one goes at once. The last picture stays meanwhile.
 */
export class Follower {
  private wish: Wish | null = null;
  private flight: { place: string; abort: AbortController } | null = null;
  private answered = "";
  private running = false;
  private gone = false;
  /** When the next of a place may be asked for, and what ends waiting for it. */
  private turn = { place: "", at: 0 };
  private resting: (() => void) | null = null;

  constructor(private readonly show: (change: (before: Followed) => Followed) => void) {}

  /** Whoever looks at it is there, until what this returns is called. */
  watched(): () => void {
    this.gone = false;
    return () => {
      this.gone = true;
      this.flight?.abort.abort();
      this.resting?.();
    };
  }

  want(wish: Wish | null): void {
    this.wish = wish;
    if (this.flight && this.flight.place !== (wish?.place ?? "")) this.flight.abort.abort();
    if (this.turn.place !== wish?.place) this.resting?.();
    if (wish) void this.follow();
    else {
      this.answered = "";
      this.show(() => NOTHING);
    }
  }

  private rest(milliseconds: number): Promise<void> {
    return new Promise((resolve) => {
      const timer = setTimeout(() => this.resting?.(), milliseconds);
      this.resting = () => {
        clearTimeout(timer);
        this.resting = null;
        resolve();
      };
    });
  }

  private async follow(): Promise<void> {
    if (this.running) return;
    this.running = true;
    let refused = 0;
    while (this.wish && this.wish.key !== this.answered && !this.gone) {
      const mine = this.wish;
      const wait = mine.place === this.turn.place ? this.turn.at - performance.now() : 0;
      if (wait > 0) {
        await this.rest(wait);
        continue;
      }
      const abort = new AbortController();
      this.flight = { place: mine.place, abort };
      this.show((before) => ({ ...before, busy: true }));
      const late = setTimeout(() => this.show((before) => ({ ...before, late: true })), SOON_MS);
      try {
        const planes = await mine.fetch(abort.signal);
        refused = 0;
        this.answered = mine.key;
        this.turn = { place: mine.place, at: performance.now() + (planes.next ?? 0) };
        const busy = this.wish?.key !== mine.key;
        if (this.wish) this.show(() => ({ planes, problem: planes.pending ?? null, busy, late: false }));
      } catch (error) {
        const problem = problemOf(error);
        // What was given up is asked for anew where it is still wanted, or wanted again. Where the server gave it up,
        // only after a while: two that push each other aside would do so without end.
        if (problem.code === "cancelled") {
          refused = abort.signal.aborted ? 0 : refused + 1;
          const pause = Math.min(LONGEST_PAUSE_MS, FIRST_PAUSE_MS * 2 ** (refused - 1));
          if (refused) this.turn = { place: mine.place, at: performance.now() + pause };
          continue;
        }
        refused = 0;
        this.answered = mine.key;
        this.show((before) => ({ ...before, problem, busy: false, late: false }));
      } finally {
        clearTimeout(late);
      }
    }
    this.flight = null;
    this.running = false;
  }
}

function useFollower(wish: Wish | null): { state: Followed; follower: Follower } {
  const [state, setState] = useState(NOTHING);
  const [follower] = useState(() => new Follower(setState));
  useEffect(() => {
    const leave = follower.watched();
    return leave;
  }, [follower]);
  useEffect(() => {
    follower.want(wish);
    // The key stands for the wish.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [follower, wish?.key ?? ""]);
  return { state, follower };
}

/** Planes that follow a wish by its key; an empty one wants nothing. */
export function useFollowed(key: string, fetch: (signal: AbortSignal) => Promise<Planes>) {
  return useFollower(key ? { key, fetch, place: "" } : null).state;
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
