import type { Item } from "@/api/client";
import { type Recipe, findStep, stepsOf } from "@/api/recipe";
import type { Placement } from "@/stage/geometry";

import { EdgeLine } from "./EdgeLine";
import { useEdgeLine } from "./line";
import { MovePlaced } from "./MovePlaced";

interface Props {
  recipe: Recipe;
  items: Item[];
  item: string | null;
  placement: Placement;
  writable: boolean;
}

/** What the Edges bench does on the stage: the line of the profile, and pictures moved by hand. */
export function EdgeTools({ recipe, items, item, placement, writable }: Props) {
  const drawing = useEdgeLine((state) => state.drawing);
  const step = item ? findStep(recipe, item) : undefined;
  // Of a stack it is the upper picture that moves, where that was placed.
  const over = step?.op === "stack" ? stepsOf(recipe).find((other) => other.name === step.in?.over) : step;
  const placed = over?.op === "place" && over.on !== false ? over : undefined;
  const known = items.find((entry) => entry.name === placed?.name && !entry.problem);
  return (
    <div className="pointer-events-none absolute inset-0 overflow-hidden">
      {placed && known?.window && writable && !drawing && (
        <div className="pointer-events-auto">
          <MovePlaced
            placement={placement}
            step={placed}
            window={known.window as [number, number, number, number]}
          />
        </div>
      )}
      <EdgeLine placement={placement} />
    </div>
  );
}
