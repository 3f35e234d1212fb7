import { queryOptions, useQuery } from "@tanstack/react-query";

import { api, type Item, got } from "./client";
import { type Recipe, drafted } from "./recipe";

/** The catalogue of operations; it changes with the program only. */
export function useOperations() {
  return useQuery({
    queryKey: ["operations"],
    queryFn: () => got(api.GET("/api/operations")),
    staleTime: Infinity,
  });
}

/** The signed-in person. */
export function useSession() {
  return useQuery({ queryKey: ["session"], queryFn: () => got(api.GET("/api/session")), staleTime: 60_000 });
}

/** Every item of a recipe with its channels, windows and digest, or its fault. The last answer stays meanwhile. */
export function useItems(shot: number, recipe: Recipe) {
  return useQuery({
    queryKey: ["items", shot, recipe],
    queryFn: () =>
      got(
        api.POST("/api/shots/{shot_id}/inspect", {
          params: { path: { shot_id: shot } },
          body: { ...drafted(recipe) },
        }),
      ),
    placeholderData: (previous: Item[] | undefined) => previous,
    staleTime: Infinity,
    gcTime: 60_000,
  });
}

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

/** The last answer, as long as it is about the same thing: the place in the key that names it. */
export function keepWhileSame(place: number, value: unknown) {
  return <T>(previous: T | undefined, query: { queryKey: readonly unknown[] } | undefined): T | undefined =>
    query?.queryKey[place] === value ? previous : undefined;
}
