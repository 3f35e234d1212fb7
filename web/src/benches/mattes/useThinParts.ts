import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";

import { type Item, api, got } from "@/api/client";
import { isSame, keepWhileSame } from "@/api/queries";
import { type Step, drafted } from "@/api/recipe";
import { useSettled } from "@/parts/useSettled";
import { useMarksOf } from "@/shot/marks";
import { useTools } from "@/stage/tools";

/** The parts of a matte that a step makes vanish, counted, and shown on the stage while the step is in focus. */
export function useThinParts(shot: number, step: Step, items: Item[]) {
  const marks = useMarksOf(step.name);
  const change = useTools((state) => state.change);
  const now = items.find((item) => item.name === step.name);
  const settled = useSettled(now);
  const thin = useQuery({
    queryKey: ["thin", shot, step.name, settled?.digest, marks],
    queryFn: ({ signal }) =>
      got(
        api.POST("/api/shots/{shot_id}/thin", {
          params: { path: { shot_id: shot } },
          body: { ...drafted(settled!.of), item: settled!.name, marks },
          signal,
        }),
      ),
    enabled: Boolean(now?.digest) && isSame(settled, now),
    placeholderData: keepWhileSame(2, step.name),
    staleTime: Infinity,
    gcTime: 30_000,
    retry: false,
  }).data;
  const boxes = thin?.boxes;
  useEffect(() => {
    change({ lost: boxes ?? [] });
    return () => change({ lost: [] });
  }, [boxes, change]);
  return thin;
}
