import { queryOptions, useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";

import { api, type Item, got, problemOf } from "./client";
import { type Recipe, drafted } from "./recipe";

/** The catalogue of operations; it changes with the program only. */
export const operationsQuery = queryOptions({
  queryKey: ["operations"],
  queryFn: () => got(api.GET("/api/operations")),
  staleTime: Infinity,
});

export function useOperations() {
  return useQuery(operationsQuery);
}

export const sessionQuery = queryOptions({
  queryKey: ["session"],
  queryFn: () => got(api.GET("/api/session")),
  staleTime: 60_000,
});

/** The signed-in person. */
export function useSession() {
  return useQuery(sessionQuery);
}

const ITEMS_EVERY_MS = 150;

/** A value that changes at once, and then at most every so many milliseconds, the last change always among them. */
export function useEvery<T>(value: T, pause: number): T {
  const [taken, setTaken] = useState(value);
  const last = useRef(-Infinity);
  useEffect(() => {
    const take = () => {
      last.current = performance.now();
      setTaken(() => value);
    };
    const wait = last.current + pause - performance.now();
    if (wait <= 0) {
      take();
      return;
    }
    const timer = setTimeout(take, wait);
    return () => clearTimeout(timer);
  }, [value, pause]);
  return taken;
}

/** Every item of a recipe with its channels, windows and digest, or its fault. */
export const itemsQuery = (shot: number, recipe: Recipe) =>
  queryOptions({
    queryKey: ["items", shot, recipe],
    queryFn: async (): Promise<Item[]> => {
      const rows = await got(
        api.POST("/api/shots/{shot_id}/inspect", {
          params: { path: { shot_id: shot } },
          body: { ...drafted(recipe) },
        }),
      );
      return rows.map((row) => ({ ...row, of: recipe }));
    },
    // Every item holds the recipe: comparing them piece by piece would take longer than drawing anew.
    structuralSharing: false,
    staleTime: Infinity,
    gcTime: 60_000,
  });

/**
 * The items of a recipe that is edited. The last answer stays meanwhile. While something is dragged it is asked a few
 * times a second, not at each step.
 */
export function useItems(shot: number, edited: Recipe) {
  const recipe = useEvery(edited, ITEMS_EVERY_MS);
  return useQuery({
    ...itemsQuery(shot, recipe),
    placeholderData: (previous: Item[] | undefined) => previous,
  });
}

/** What was imported into a shot; what has just been asked for is not asked for again where it is shown. */
export const sourcesQuery = (shot: number) =>
  queryOptions({
    queryKey: ["sources", shot],
    queryFn: () => got(api.GET("/api/shots/{shot_id}/sources", { params: { path: { shot_id: shot } } })),
    enabled: shot !== 0,
    staleTime: 5000,
  });

/** A source with its channels; asked again while it is being unpacked. */
export function sourceQuery(shot: number, source: number | undefined, pending: boolean) {
  return queryOptions({
    queryKey: ["source", shot, source],
    queryFn: () =>
      got(
        api.GET("/api/shots/{shot_id}/sources/{source_id}", {
          params: { path: { shot_id: shot, source_id: source! } },
        }),
      ),
    enabled: source !== undefined,
    refetchInterval: pending ? 700 : false,
    staleTime: pending ? 0 : Infinity,
  });
}

/**
 * Whether to ask again what a later request has taken the place of: requests may overtake each other on their way.
 * What nobody wants any more has to be given up by its signal, or it would take the place of what is wanted.
 */
export function onceMore(count: number, error: unknown): boolean {
  return count < 6 && problemOf(error).code === "cancelled";
}

/** Whether what has settled is still what is there now. */
export function isSame(settled: Item | undefined, now: Item | undefined): boolean {
  return settled !== undefined && settled.name === now?.name && settled.digest === now.digest;
}

/** The last answer, as long as it is about the same thing: the place in the key that names it. */
export function keepWhileSame(place: number, value: unknown) {
  return <T>(previous: T | undefined, query: { queryKey: readonly unknown[] } | undefined): T | undefined =>
    query?.queryKey[place] === value ? previous : undefined;
}
