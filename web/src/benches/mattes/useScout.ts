import { useQuery } from "@tanstack/react-query";
import { useDeferredValue } from "react";

import { type Item, api, got } from "@/api/client";
import { keepWhileSame } from "@/api/queries";
import { type Recipe, type Step, drafted } from "@/api/recipe";
import { useMarksOf } from "@/shot/marks";

export interface Candidate {
  a: string;
  b?: string | null;
  mode?: string | null;
  separation: number;
  fisher: number;
  edge_kept: number;
  noise: number;
  direction: string;
  words: string;
  steps: Step[];
}

/** Ranked candidates for the marks as they are now; the last ranking stays until the next is there. */
export function useScout(
  shot: number,
  recipe: Recipe,
  picture: Item | undefined,
  ink: boolean,
  rows: number,
) {
  const marks = useDeferredValue(useMarksOf(picture?.name ?? null));
  const enough = ["subject", "background"].every((side) => marks.some((mark) => mark.side === side));
  return useQuery({
    queryKey: ["scout", shot, picture?.name, picture?.digest, marks, ink, rows],
    queryFn: ({ signal }) =>
      got(
        api.POST("/api/shots/{shot_id}/scout", {
          params: { path: { shot_id: shot } },
          body: {
            ...drafted(recipe),
            address: picture!.name,
            ink,
            rows,
            marks,
          },
          signal,
        }),
      ),
    enabled: enough && picture !== undefined && !picture.problem,
    placeholderData: keepWhileSame(2, picture?.name),
    retry: (count, error) =>
      count < 3 &&
      "problem" in error &&
      (error as { problem: { code: string } }).problem.code === "cancelled",
    retryDelay: 30,
    staleTime: Infinity,
    gcTime: 30_000,
  });
}
