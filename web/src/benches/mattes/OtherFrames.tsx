import { type Recipe, type Step, sourcesOf } from "@/api/recipe";
import { Button } from "@/parts/Button";
import { useTime } from "@/time/timeState";

import { filmedBy, holdColours, joinFrames, spread } from "./otherFrames";

interface Props {
  recipe: Recipe;
  step: Step;
  writable: boolean;
  onRecipe: (change: (before: Recipe) => Recipe) => void;
}

/** What a step before a coloured screen can take from other frames of its shot. */
export function OtherFrames({ recipe, step, writable, onRecipe }: Props) {
  const { range, frame } = useTime();
  const source = filmedBy(recipe, step);
  if (range[1] <= range[0] || !source) return null;
  const solving = step.op === "screen_solve";
  const fed = [step.in?.[solving ? "held" : "others"] ?? []].flat();
  // Frames of the shot, which a source that is moved numbers otherwise.
  const at = fed.flatMap((name) => {
    const spec = sourcesOf(recipe)[name];
    return spec?.first === undefined ? [] : [spec.first + (spec.offset ?? 0)];
  });
  return (
    <div role="group" aria-label="Other frames" className="flex items-center justify-between gap-2">
      <span className="text-dim">
        {solving
          ? fed.length
            ? `Colours held as in ${at.join(", ") || fed.join(", ")}`
            : "Colours found anew in each frame"
          : fed.length
            ? `Joined with ${at.join(", ") || fed.join(", ")}`
            : "Of this frame alone"}
      </span>
      {solving ? (
        <Button
          disabled={!writable}
          title="The subject's colours as this frame shows them, for all frames: the matte flickers less"
          onClick={() => onRecipe((before) => holdColours(before, step.name, frame))}
        >
          Hold those of {frame}
        </Button>
      ) : (
        <Button
          disabled={!writable}
          title="What is hidden in one frame is seen in another; the camera has to stand still"
          onClick={() => onRecipe((before) => joinFrames(before, step.name, spread(range, frame)))}
        >
          Join other frames
        </Button>
      )}
    </div>
  );
}
