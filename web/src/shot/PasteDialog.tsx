import { useState } from "react";

import type { Item } from "@/api/client";
import type { Recipe, Step } from "@/api/recipe";
import { Button } from "@/parts/Button";
import { Modal } from "@/parts/Modal";
import { AddressField } from "@/steps/AddressField";

import { fedFrom, lacking } from "./copying";

interface Props {
  recipe: Recipe;
  items: Item[];
  steps: Step[];
  /** What is in focus: likely meant where one thing is lacking. */
  item: string | null;
  /** The name of the chain that they are. */
  chain?: string | undefined;
  onPaste: (instead: Record<string, string>) => void;
  onClose: () => void;
}

/** Steps from elsewhere are fed from what this shot lacks: what is it to be instead? */
export function PasteDialog({ recipe, items, item, steps, chain, onPaste, onClose }: Props) {
  // A chain is fed on purpose: what has a name of its inputs here may be something else.
  const missing = chain ? fedFrom(steps) : lacking(recipe, steps);
  const [instead, setInstead] = useState<Record<string, string>>(() => {
    const sound = items.filter((entry) => !entry.problem);
    const first = sound.find((entry) => entry.name === item) ?? sound.find((entry) => !entry.plane);
    const guessed = (name: string) =>
      sound.some((entry) => entry.name === name) ? name : missing.length === 1 ? (first?.name ?? "") : "";
    return Object.fromEntries(missing.map((name) => [name, guessed(name)]));
  });
  const left = missing.filter((name) => !instead[name]);
  return (
    <Modal
      title={chain ?? (steps.length === 1 ? `Paste ${steps[0]!.name}` : `Paste ${steps.length} steps`)}
      about={
        chain
          ? "What is it to be fed from here?"
          : `They are fed from what this shot does not have: ${missing.join(", ")}.`
      }
      open
      onClose={onClose}
      width={420}
    >
      <form
        className="space-y-2 text-[12px]"
        onSubmit={(event) => {
          event.preventDefault();
          onPaste(instead);
        }}
      >
        {missing.map((name) => (
          <AddressField
            key={name}
            label={`For ${name}`}
            value={instead[name] || undefined}
            kind="any"
            items={items}
            optional
            onChange={(address) => setInstead({ ...instead, [name]: address ?? "" })}
          />
        ))}
        <p role="status" className="min-h-4 text-dim">
          {left.length > 0 &&
            `Without ${left.join(", ")} what is fed from it shows a fault until you feed it.`}
        </p>
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button main type="submit" data-main>
            {chain ? "Put to use" : "Paste"}
          </Button>
        </div>
      </form>
    </Modal>
  );
}
