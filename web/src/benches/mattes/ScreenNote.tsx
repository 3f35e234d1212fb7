import { useQuery } from "@tanstack/react-query";

import { type Item, api, got } from "@/api/client";
import { type Recipe, type Step, drafted } from "@/api/recipe";
import { Button } from "@/parts/Button";
import { useSettled } from "@/parts/useSettled";
import { percent } from "@/parts/percent";

interface Props {
  shot: number;
  recipe: Recipe;
  picture: Item | undefined;
  writable: boolean;
  onTake: (steps: Step[]) => void;
}

/** A picture before a coloured screen: what is known of the screen, and its whole matte by one click. */
export function ScreenNote({ shot, recipe, picture, writable, onTake }: Props) {
  // Frames that one goes through are not asked about.
  const settled = useSettled(picture, 400);
  const found = useQuery({
    queryKey: ["screen", shot, settled?.name, settled?.digest],
    queryFn: () =>
      got(
        api.POST("/api/shots/{shot_id}/screen", {
          params: { path: { shot_id: shot } },
          body: { ...drafted(recipe), address: settled!.name },
        }),
      ),
    enabled: settled !== undefined && !settled.problem && settled.digest !== "" && !settled.plane,
    staleTime: Infinity,
    gcTime: 30_000,
    retry: false,
  }).data;
  if (!found || settled?.name !== picture?.name) return null;
  return (
    <div
      role="group"
      aria-label="Coloured screen"
      className="shrink-0 border-t border-line px-3 py-2 text-[12px]"
    >
      <div className="flex items-center justify-between gap-2">
        <span>Before a {found.screen} screen</span>
        <Button
          disabled={!writable}
          title="Its matte in one step, from the shot alone: the empty screen, the matte, its colour"
          onClick={() => onTake(found.steps as unknown as Step[])}
        >
          Whole matte
        </Button>
      </div>
      <p className="mt-1 text-dim">
        {percent(found.bare)} of it bare, light within ±{percent(found.uneven)}, noise {percent(found.noise)}
      </p>
    </div>
  );
}
