import { type Step, findStep, insertSteps } from "@/api/recipe";
import type { BenchProps } from "@/steps/props";
import { StepPanel } from "@/steps/StepPanel";
import { pictureOf } from "@/stage/focus";

import { ScoutBoard } from "./ScoutBoard";
import { ScreenNote } from "./ScreenNote";
import { addAlpha, isTold } from "./strokes";
import { Tools } from "./Tools";

/** The Mattes bench: scout above, the tools of the hand, the chosen step below, and what is known of a screen. */
export function MattesPanel(props: BenchProps) {
  const { shot, recipe, items, item, writable, onPut } = props;
  const known = items.find((entry) => entry.name === item);
  const picture =
    known && !known.plane
      ? known
      : items.find((entry) => item && entry.name === pictureOf(recipe, items, item));
  const take = (steps: Step[]) => onPut((before) => insertSteps(before, steps, picture?.name ?? null));
  return (
    <aside
      aria-label="Bench"
      className="flex w-80 shrink-0 flex-col overflow-hidden border-l border-line bg-panel"
    >
      <ScoutBoard shot={shot} recipe={recipe} picture={picture} writable={writable} onTake={take} />
      {/* There before it is known what the item is: what comes late pushes away what is being clicked. */}
      {writable && item && !known?.problem && (
        <Tools
          known={known}
          told={isTold(findStep(recipe, item))}
          onAddAlpha={() => onPut((before) => addAlpha(before, item))}
        />
      )}
      <StepPanel {...props} />
      {/* It comes late: at the end, it moves nothing that is being clicked. */}
      {picture && picture === known && (
        <ScreenNote shot={shot} recipe={recipe} picture={picture} writable={writable} onTake={take} />
      )}
    </aside>
  );
}
