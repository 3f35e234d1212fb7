import { useState } from "react";

import type { Item } from "@/api/client";
import { ITEM_NAME } from "@/api/names";
import { type Recipe, type Step, setPort } from "@/api/recipe";
import { AddressField } from "@/steps/AddressField";
import { Button } from "@/parts/Button";
import { useDraft } from "@/shot/draft";
import { useView } from "@/stage/viewState";

import { keepAs, othersLike } from "./balance";
import { PassPicture } from "./PassPicture";

interface SumProps {
  shot: number;
  recipe: Recipe;
  step: Step;
  above: Item[];
  item: Item | undefined;
  writable: boolean;
  onReset: () => void;
  onPut: (change: (before: Recipe) => [Recipe, string]) => void;
}

/** The last strip: the sum itself, the alpha that closes it, and other balances of the same passes. */
export function SumStrip({ shot, recipe, step, above, item, writable, onReset, onPut }: SumProps) {
  const edit = useDraft((state) => state.edit);
  const { pin, change } = useView();
  const [name, setName] = useState("");
  const sound = ITEM_NAME.test(name);
  const others = othersLike(recipe, step);
  const alpha = [step.in?.alpha_from].flat()[0];
  return (
    <section aria-label="Sum" className="flex w-[184px] shrink-0 flex-col gap-1.5 border-l border-line p-2">
      <div className="flex items-center justify-between">
        <h2 className="truncate font-semibold">
          Sum <span className="font-normal text-dim">→ {step.name}</span>
        </h2>
        <Button quiet className="h-5! px-1!" disabled={!writable} onClick={onReset}>
          reset all
        </Button>
      </div>
      <PassPicture shot={shot} item={item} address={step.name} />
      <AddressField
        stacked
        label={alpha ? "Closed with alpha of" : "No alpha closes it"}
        kind="plane"
        value={alpha}
        items={above}
        optional
        disabled={!writable}
        onChange={(address) => edit((before) => setPort(before, step.name, "alpha_from", address))}
      />
      <div className="flex gap-1">
        <input
          aria-label="Name for this balance"
          placeholder="balance name"
          value={name}
          disabled={!writable}
          onChange={(event) => setName(event.target.value.toLowerCase().replaceAll(/[^a-z0-9_]/g, "_"))}
          className="h-6 min-w-0 grow rounded-sm border border-line bg-well px-2 text-[12px] placeholder:text-faint"
        />
        <Button
          disabled={!writable || !sound}
          onClick={() => {
            onPut((before) => [keepAs(before, step.name, name)[0], step.name]);
            setName("");
          }}
        >
          Keep
        </Button>
      </div>
      {others.length > 0 && (
        <div className="flex min-h-0 flex-wrap items-center gap-1 overflow-y-auto">
          <span className="text-faint">against</span>
          {others.map((other) => (
            <Button
              key={other.name}
              className="h-5! px-1.5!"
              lit={pin?.address === other.name}
              onClick={() =>
                change(
                  pin?.address === other.name
                    ? { pin: null, panes: "one" }
                    : { pin: { recipe, address: other.name, channels: null }, panes: "split" },
                )
              }
            >
              {other.name}
            </Button>
          ))}
        </div>
      )}
    </section>
  );
}
