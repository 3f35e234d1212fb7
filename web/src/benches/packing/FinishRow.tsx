import { Popover } from "radix-ui";
import { useState } from "react";

import type { Item } from "@/api/client";
import { type Recipe, type Step, stepsOf } from "@/api/recipe";
import { AddressField } from "@/steps/AddressField";
import { Button } from "@/parts/Button";
import { useDraft } from "@/shot/draft";

import { finished } from "./building";
import { type Finish, above, baysOf, missingMeanings } from "./packs";

interface Props {
  recipe: Recipe;
  items: Item[];
  pack: Step;
  finishes: Finish[];
  writable: boolean;
  onOwn: () => void;
}

/** Finishes: each lays its values into every bay at once, where a mask covers. */
export function FinishRow({ recipe, items, pack, finishes, writable, onOwn }: Props) {
  const built = baysOf(recipe, pack).flatMap((bay) => bay.step ?? []);
  // What all bays can be fed from stands above the first of them.
  const first = stepsOf(recipe).find((step) => built.some((bay) => bay.name === step.name));
  const usable = first ? above(items, first.name) : [];
  return (
    <div role="group" aria-label="Finishes" className="flex flex-wrap items-center gap-0.5 text-[12px]">
      <span className="mr-1 text-dim">Finish</span>
      {finishes.map((finish) => (
        <FinishButton
          key={finish.name}
          recipe={recipe}
          pack={pack}
          finish={finish}
          items={usable}
          disabled={!writable || built.length === 0}
        />
      ))}
      <Button quiet className="px-1!" onClick={onOwn}>
        own…
      </Button>
    </div>
  );
}

interface FinishProps {
  recipe: Recipe;
  pack: Step;
  finish: Finish;
  items: Item[];
  disabled: boolean;
}

function FinishButton({ recipe, pack, finish, items, disabled }: FinishProps) {
  const edit = useDraft((state) => state.edit);
  const [open, setOpen] = useState(false);
  const [mask, setMask] = useState<string | undefined>(undefined);
  const [invert, setInvert] = useState(false);
  const missing = missingMeanings(recipe, pack, finish);
  const lost = baysOf(recipe, pack).filter(
    (bay) =>
      bay.step && finish.values[bay.meaning] !== undefined && (bay.step.set?.layers as unknown[])?.length,
  );
  const apply = () => {
    setOpen(false);
    edit((before) => {
      const step = stepsOf(before).find((each) => each.name === pack.name);
      return step ? finished(before, step, finish, mask, invert) : before;
    });
  };
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger asChild>
        <Button disabled={disabled || missing.length === Object.keys(finish.values).length} className="px-1!">
          {finish.title}
        </Button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="end"
          sideOffset={4}
          collisionPadding={8}
          aria-label={`Apply ${finish.title}`}
          className="z-50 w-72 space-y-2 rounded-sm border border-line bg-raised p-3 text-[12px] shadow-xl"
        >
          <p className="font-medium">{finish.title}</p>
          <dl className="grid grid-cols-[1fr_auto_auto] gap-x-3">
            {Object.entries(finish.values).map(([meaning, value]) => (
              <div key={meaning} className="contents">
                <dt className={missing.includes(meaning) ? "text-faint" : ""}>
                  {meaning.replaceAll("_", " ")}
                </dt>
                <dd className="text-right font-mono">{Number((value * 100).toFixed(2))} %</dd>
                <dd className="text-right font-mono text-faint">
                  {missing.includes(meaning) ? "no bay" : Math.floor(value * 255 + 0.5)}
                </dd>
              </div>
            ))}
          </dl>
          <AddressField
            label="Where"
            kind="plane"
            value={mask}
            items={items}
            optional
            empty="everywhere"
            onChange={setMask}
          />
          {mask ? (
            <Button lit={invert} onClick={() => setInvert(!invert)}>
              outside of it
            </Button>
          ) : (
            lost.length > 0 && (
              <p className="text-clay">
                Everywhere: what {lost.map((bay) => bay.meaning).join(", ")} holds now is covered up. Choose a
                mask to keep the rest.
              </p>
            )
          )}
          <div className="flex justify-end">
            <Button main onClick={apply}>
              Lay it in
            </Button>
          </div>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
