import { useMutation } from "@tanstack/react-query";

import type { Item } from "@/api/client";
import { type Recipe, type Step, findStep, freeName, insertAfter, insertSteps, stepsOf } from "@/api/recipe";
import { Button } from "@/parts/Button";

import { addable, audited, renderOf } from "./balance";
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
  const render = renderOf(recipe, items, item);
  const passes = addable(recipe, items, render);
  // What is the full picture, or a sum of others, is no pass beside them; the alpha that closes the sum comes along.
  const finding = useMutation({ mutationFn: () => audited(shot, recipe, render?.name ?? passes[0]!, null) });
  const addUp = async () => {
    const found = await finding.mutateAsync().catch(() => undefined);
    onPut((before) => {
      if (!render && found?.claimed && found.steps.length) {
        const [next] = insertSteps(before, found.steps as unknown as Step[], null);
        const sum = stepsOf(next).findLast((each) => each.op === "sum_passes");
        return [next, sum?.name ?? ""];
      }
      const whole = found?.claimed ? [found.full, ...found.sums.map((row) => row.layer)] : [];
      const left = new Set(whole.map((layer) => found!.addresses[layer]));
      const ports = {
        passes: passes.filter((address) => !left.has(address)),
        ...(found?.alpha && found.claimed ? { alpha_from: found.alpha } : {}),
      };
      const added = { name: freeName(before, "rebuilt"), op: "sum_passes", in: ports };
      const behind = render && findStep(before, render.name) ? render.name : null;
      return [insertAfter(before, added, behind), added.name];
    });
  };
  const own = item ? findStep(recipe, item) : undefined;
  const step = own?.op === "sum_passes" ? own : stepsOf(recipe).findLast((each) => each.op === "sum_passes");
  if (step)
    return <Desk shot={shot} recipe={recipe} items={items} step={step} writable={writable} onPut={onPut} />;
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
        <Button className="ml-auto" disabled={finding.isPending} onClick={addUp}>
          {finding.isPending
            ? "Looking which of them belong together"
            : `Add up ${passes.length} ${render ? "layers" : "pictures"}`}
        </Button>
      )}
    </section>
  );
}
