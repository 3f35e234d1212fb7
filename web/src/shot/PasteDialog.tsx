import { useState } from "react";

import type { Item } from "@/api/client";
import type { Recipe, Step } from "@/api/recipe";
import { Button } from "@/parts/Button";
import { Modal } from "@/parts/Modal";
import { AddressField } from "@/steps/AddressField";

import { lacking, refed } from "./copying";

interface Props {
  recipe: Recipe;
  items: Item[];
  steps: Step[];
  onPaste: (steps: Step[]) => void;
  onClose: () => void;
}

/** Steps from elsewhere are fed from what this shot lacks: what is it to be instead? */
export function PasteDialog({ recipe, items, steps, onPaste, onClose }: Props) {
  const missing = lacking(recipe, steps);
  const first = items.find((item) => !item.problem && !item.plane)?.name ?? "";
  const [instead, setInstead] = useState<Record<string, string>>(
    Object.fromEntries(missing.map((name) => [name, missing.length === 1 ? first : ""])),
  );
  const left = missing.filter((name) => !instead[name]);
  return (
    <Modal
      title={steps.length === 1 ? `Paste ${steps[0]!.name}` : `Paste ${steps.length} steps`}
      about={`They are fed from what this shot does not have: ${missing.join(", ")}.`}
      open
      onClose={onClose}
      width={420}
    >
      <form
        className="space-y-2 text-[12px]"
        onSubmit={(event) => {
          event.preventDefault();
          onPaste(refed(steps, instead));
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
            Paste
          </Button>
        </div>
      </form>
    </Modal>
  );
}
