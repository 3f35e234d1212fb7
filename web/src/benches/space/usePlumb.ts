import { useEffect, useRef, useState } from "react";

import { api, got } from "@/api/client";
import { type Recipe, drafted } from "@/api/recipe";
import { useHover } from "@/stage/hover";

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

/** What lies under the pointer on the stage; the newest wish is answered last. */
export function usePlumb(shot: number, recipe: Recipe, wanted: Wanted): Located | null {
  const at = useHover((state) => state.at);
  const [found, setFound] = useState<Located | null>(null);
  const wish = useRef<[number, number] | null>(null);
  const running = useRef(false);
  const [x, y] = at ? [Math.floor(at[0]), Math.floor(at[1])] : [0, 0];
  const asked = JSON.stringify(wanted);
  useEffect(() => {
    if (!at || asked === "{}") {
      wish.current = null;
      setFound(null);
      return;
    }
    wish.current = [x, y];
    const timer = setTimeout(() => void follow(), 30);
    async function follow(): Promise<void> {
      if (running.current) return;
      running.current = true;
      while (wish.current) {
        const mine = wish.current;
        const answer = await locate(shot, recipe, wanted, ...mine).catch(() => null);
        if (wish.current) setFound(answer);
        if (wish.current === mine) wish.current = null;
      }
      running.current = false;
    }
    return () => clearTimeout(timer);
    // Position and addresses stand for their objects.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [shot, recipe, asked, x, y, at === null]);
  return at ? found : null;
}
