import type { Item } from "@/api/client";
import { type Recipe, findStep, freeName, insertAfter, stepsOf } from "@/api/recipe";
import { Button } from "@/parts/Button";

import { addable, renderOf } from "./balance";
import { Desk } from "./Desk";

interface Props {
  shot: number;
  recipe: Recipe;
  items: Item[];
  item: string | null;
  writable: boolean;
  onPut: (change: (before: Recipe) => [Recipe, string]) => void;
}

/** The desk of the sum in focus, else of the last sum; where there is none, the way to one. */
export function DeskArea({ shot, recipe, items, item, writable, onPut }: Props) {
  const own = item ? findStep(recipe, item) : undefined;
  const step = own?.op === "sum_passes" ? own : stepsOf(recipe).findLast((each) => each.op === "sum_passes");
  if (step)
    return <Desk shot={shot} recipe={recipe} items={items} step={step} writable={writable} onPut={onPut} />;
  const render = renderOf(recipe, items, item);
  const passes = addable(recipe, items, render);
  return (
    <section
      aria-label="Desk"
      className="flex h-14 shrink-0 items-center gap-3 border-t border-line bg-panel px-3 text-[12px]"
    >
      <span className="text-dim">
        {render
          ? `Nothing is added up yet. Audit ${render.name} on the right to find its set, or add all of its colour layers.`
          : passes.length > 1
            ? "Nothing is added up yet. Passes that came in files of their own can be added up here."
            : "Add a render with several layers: its passes are balanced here, a strip for each."}
      </span>
      {passes.length > 1 && writable && (
        <Button
          className="ml-auto"
          onClick={() =>
            onPut((before) => {
              const name = freeName(before, "rebuilt");
              const added = { name, op: "sum_passes", in: { passes } };
              const behind = render && findStep(before, render.name) ? render.name : null;
              return [insertAfter(before, added, behind), name];
            })
          }
        >
          Add up {passes.length} {render ? "layers" : "pictures"}
        </Button>
      )}
    </section>
  );
}
