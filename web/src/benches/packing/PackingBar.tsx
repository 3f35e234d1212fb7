import type { Item } from "@/api/client";
import type { Recipe } from "@/api/recipe";
import { Button } from "@/parts/Button";
import { Choose } from "@/parts/Choose";
import { Tip } from "@/parts/Tip";

import { baseFor, colouredOf } from "./packs";
import { type LitShape, type Seen, usePackingView } from "./packingView";

const SEEN: [Seen, string, string][] = [
  ["bays", "Bays + object", "Every channel in grey, and the texture on an object"],
  ["packed", "Large", "What is in focus, alone and large"],
  ["mip", "Mips", "A smaller mip level, magnified, against the texture"],
  ["blocks", "Blocks 4×4", "As it comes out of compression in blocks, against the texture"],
];
const SHAPES: LitShape[] = ["tin", "sphere", "panel"];
const NOTHING = "plain grey";

interface Props {
  recipe: Recipe;
  items: Item[];
}

/** Under the bays: what is shown, and on which object. */
export function PackingBar({ recipe, items }: Props) {
  const view = usePackingView();
  const coloured = colouredOf(items);
  const pictures = items.filter(
    (item) => !item.problem && ["R", "G", "B"].every((name) => item.channels.includes(name)),
  );
  return (
    <div className="flex min-h-9 shrink-0 flex-wrap items-center gap-x-1.5 gap-y-1 border-t border-line bg-panel px-2 py-1 text-[12px]">
      {SEEN.map(([seen, label, text]) => (
        <Tip key={seen} text={text}>
          <Button lit={view.seen === seen} onClick={() => view.change({ seen })}>
            {label}
          </Button>
        </Tip>
      ))}
      {view.seen === "mip" && (
        <div role="group" aria-label="Mip level" className="flex gap-1">
          {[1, 2, 3, 4].map((level) => (
            <Button key={level} lit={view.level === level} onClick={() => view.change({ level })}>
              {level}
            </Button>
          ))}
        </div>
      )}
      {view.seen === "bays" && (
        <>
          <span className="h-4 w-px bg-line" />
          <div role="group" aria-label="Object" className="flex gap-1">
            {SHAPES.map((shape) => (
              <Button key={shape} lit={view.shape === shape} onClick={() => view.change({ shape })}>
                {shape}
              </Button>
            ))}
          </div>
          <Choose
            label="Base colour"
            value={baseFor(recipe, items, view.base) ?? NOTHING}
            options={[...coloured, NOTHING]}
            onChange={(next) => view.change({ base: next === NOTHING ? null : next })}
            className="max-w-30"
          />
          <Choose
            label="Normal map"
            value={view.normal ?? "no normals"}
            options={["no normals", ...pictures.map((item) => item.name)]}
            onChange={(next) => view.change({ normal: next === "no normals" ? null : next })}
            className="max-w-26"
          />
          <Tip text="Keep the texture as it is now, and see it beside what comes of it">
            <Button
              lit={view.before !== null}
              onClick={() => view.change({ before: view.before ? null : recipe })}
            >
              {view.before ? "Let go" : "Keep as before"}
            </Button>
          </Tip>
        </>
      )}
    </div>
  );
}
