import { keepPreviousData, useQuery } from "@tanstack/react-query";

import { api, got } from "@/api/client";
import { type Recipe, drafted, sourcesOf } from "@/api/recipe";
import { useSettled } from "@/parts/useSettled";

import type { SpaceRow } from "./space";

const EVERY_MS = 5000;
const RESTED_MS = 350;

/** What the sources of a recipe know of their space, at its frame; asked again while some are still read. */
export function useSpace(shot: number, recipe: Recipe, waiting: boolean): SpaceRow[] | undefined {
  const { recipe: whole, frame: passing } = drafted(recipe);
  // Frames that one goes through are not asked about: what there is takes looking at every pixel.
  const frame = useSettled(passing, RESTED_MS);
  // Steps change nothing about it.
  const asked = { recipe: { ...whole, steps: [] }, frame };
  return useQuery({
    queryKey: ["space", shot, sourcesOf(recipe), frame],
    queryFn: () =>
      got(api.POST("/api/shots/{shot_id}/space", { params: { path: { shot_id: shot } }, body: asked })),
    placeholderData: keepPreviousData,
    refetchInterval: waiting ? EVERY_MS : false,
    staleTime: 60_000,
    retry: false,
  }).data;
}
