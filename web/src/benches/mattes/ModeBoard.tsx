import { useState } from "react";

import type { Item } from "@/api/client";
import { type Recipe, type Step, addressesOf, itemOf, setSetting } from "@/api/recipe";
import { Button } from "@/parts/Button";
import { useVariant } from "@/stage/planes";
import { SmallPicture } from "@/stage/SmallPicture";
import { useView } from "@/stage/viewState";

interface Props {
  shot: number;
  recipe: Recipe;
  step: Step;
  items: Item[];
  modes: string[];
  onChange: (mode: string) => void;
}

/** Every mode for the chosen pair as pictures side by side, live as the inputs change. */
export function ModeBoard(props: Props) {
  const [open, setOpen] = useState(false);
  return (
    <div>
      <Button lit={open} aria-expanded={open} onClick={() => setOpen(!open)}>
        {open ? "Hide the board of modes" : "All modes side by side"}
      </Button>
      {open && (
        <div role="group" aria-label="Modes" className="mt-2 grid grid-cols-4 gap-1.5">
          {props.modes.map((mode) => (
            <Mode key={mode} mode={mode} {...props} />
          ))}
        </div>
      )}
    </div>
  );
}

function Mode({ shot, recipe, step, items, mode, onChange }: Props & { mode: string }) {
  const change = useView((state) => state.change);
  const inputs = addressesOf(step)
    .map((address) => `${address} ${items.find((item) => item.name === itemOf(address))?.digest}`)
    .join(" ");
  const draft = setSetting(recipe, step.name, "mode", mode);
  const planes = useVariant(
    shot,
    { recipe: draft, address: step.name },
    `${inputs} ${JSON.stringify({ ...step.set, mode })}`,
  );
  const now = (step.set?.mode ?? "multiply") === mode;
  return (
    <button
      type="button"
      aria-pressed={now}
      onClick={() => {
        change({ preview: null });
        onChange(mode);
      }}
      onPointerEnter={() =>
        change({ preview: { recipe: draft, address: step.name, label: mode.replace("-", " ") } })
      }
      onPointerLeave={() => change({ preview: null })}
      className={`min-w-0 rounded-sm border p-0.5 text-left ${now ? "border-lichen" : "border-line hover:border-faint"}`}
    >
      <SmallPicture
        planes={planes.data}
        error={planes.error}
        look={{ backing: { kind: "none" } }}
        label={mode}
        className="aspect-video w-full"
      />
      <span className={`block truncate pt-0.5 text-[11px] ${now ? "text-lichen" : "text-dim"}`}>
        {mode.replace("-", " ")}
      </span>
    </button>
  );
}
