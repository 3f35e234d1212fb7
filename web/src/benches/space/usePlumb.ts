import { api, got } from "@/api/client";
import { type Recipe, drafted } from "@/api/recipe";
import { useHover } from "@/stage/hover";
import { useNewest } from "@/stage/useNewest";

import type { Located } from "./space";

export interface Wanted {
  depth?: string | undefined;
  position?: string | undefined;
  ids?: string | undefined;
  /** The outline of the uppermost id is wanted, too. */
  outline?: boolean;
}

/** What lies at a point of the picture. Throws ApiError. */
export async function locate(shot: number, recipe: Recipe, wanted: Wanted, x: number, y: number) {
  return got(
    api.POST("/api/shots/{shot_id}/locate", {
      params: { path: { shot_id: shot } },
      body: {
        ...drafted(recipe),
        x,
        y,
        ...(wanted.depth ? { depth: wanted.depth } : {}),
        ...(wanted.position ? { position: wanted.position } : {}),
        ...(wanted.ids ? { ids: wanted.ids } : {}),
        outline: wanted.outline ?? false,
      },
    }),
  );
}

/** What lies under the pointer on the stage. */
export function usePlumb(shot: number, recipe: Recipe, wanted: Wanted): Located | null {
  const at = useHover((state) => state.at);
  const asking = Boolean(wanted.depth || wanted.position || wanted.ids);
  const about = [shot, recipe, JSON.stringify(wanted)];
  const found = useNewest<Located>(asking ? at : null, about, (x, y) => locate(shot, recipe, wanted, x, y));
  return at ? (found?.answer ?? null) : null;
}
