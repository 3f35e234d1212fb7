import { useEffect, useMemo } from "react";

import type { Item } from "@/api/client";
import { useItems } from "@/api/queries";
import type { Recipe } from "@/api/recipe";
import { Stage } from "@/stage/Stage";
import { useView } from "@/stage/viewState";

import { BayPanes } from "./BayPanes";
import { LitObject } from "./LitObject";
import { packOf, previewed } from "./packs";
import { PackingBar } from "./PackingBar";
import { usePackingView } from "./packingView";

interface Props {
  shot: number;
  recipe: Recipe;
  items: Item[];
  item: string | null;
  writable: boolean;
  onChoose: (item: string) => void;
}

/** The bays beside the lit object; or the texture large, as it is, smaller, or packed in blocks. */
export function PackingStage({ shot, recipe, items, item, writable, onChoose }: Props) {
  const view = usePackingView();
  const change = useView((state) => state.change);
  const { open } = view;
  useEffect(() => {
    open(shot);
  }, [shot, open]);
  const step = packOf(recipe, item, view.pack);
  const pack = items.find((entry) => entry.name === step?.name);
  const kind = view.seen === "mip" || view.seen === "blocks" ? view.seen : null;
  // A preview is seen beside the texture that it is made from, which is its first input.
  useEffect(() => {
    if (!kind) return;
    change({ panes: "split", pin: null, matte: "off" });
    return () => change({ panes: "one" });
  }, [kind, change]);
  const preview = useMemo(
    () => (kind && step ? previewed(recipe, step.name, kind, view.level) : null),
    [kind, step, recipe, view.level],
  );
  return (
    <div className="flex min-h-0 min-w-0 grow flex-col">
      {!step ? (
        <Stage shot={shot} recipe={recipe} items={items} item={item} writable={writable} />
      ) : view.seen === "bays" ? (
        <section
          aria-label="Stage"
          tabIndex={-1}
          className="flex min-h-0 grow select-none gap-px overflow-hidden bg-line"
        >
          <BayPanes
            shot={shot}
            recipe={recipe}
            items={items}
            item={item}
            pack={step.name}
            onChoose={onChoose}
          />
          {pack && !pack.problem ? (
            <LitObject shot={shot} recipe={recipe} items={items} pack={step.name} />
          ) : (
            <div className="grow bg-stage p-6 text-dim">
              {pack?.problem
                ? `The texture cannot be made: ${pack.problem.message}. ${pack.problem.remedy}`
                : "Reading the texture"}
            </div>
          )}
        </section>
      ) : preview ? (
        <Preview shot={shot} recipe={preview[0]} name={preview[1]} of={step.name} writable={writable} />
      ) : (
        <Stage shot={shot} recipe={recipe} items={items} item={item ?? step.name} writable={writable} />
      )}
      {step && <PackingBar recipe={recipe} items={items} />}
    </div>
  );
}

/** A step that is only looked at, beside what it is made from. */
function Preview({
  shot,
  recipe,
  name,
  of,
  writable,
}: {
  shot: number;
  recipe: Recipe;
  name: string;
  of: string;
  writable: boolean;
}) {
  const items = useItems(shot, recipe).data ?? [];
  return <Stage shot={shot} recipe={recipe} items={items} item={name} writable={writable} against={of} />;
}
