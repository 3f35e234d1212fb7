import { postForBytes } from "@/api/client";
import { type Recipe, drafted, recipeKey } from "@/api/recipe";
import { planesOf } from "@/stage/painting";
import { ownView, useFollowed } from "@/stage/planes";
import { useView } from "@/stage/viewState";

import type { LitShape } from "./packingView";

export interface LitAsk {
  packed: string;
  base: string | null;
  normal: string | null;
  object: LitShape;
  turn: [number, number];
  key: [number, number];
  fill: [number, number];
  size: number;
}

/** The lit object as it is asked for, following what is dragged. */
export function useLit(shot: number, recipe: Recipe | null, ask: LitAsk | null, view: string) {
  const arrivals = useView((state) => state.arrivals);
  return useFollowed(
    recipe && ask ? JSON.stringify([shot, recipeKey(recipe), ask, arrivals]) : "",
    async () =>
      planesOf(
        await postForBytes(`/api/shots/${shot}/lit`, { ...drafted(recipe!), ...ask, view: ownView(view) }),
      ),
  );
}
