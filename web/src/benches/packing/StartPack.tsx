import { useState } from "react";

import type { Item } from "@/api/client";
import type { Recipe } from "@/api/recipe";
import { AddressField } from "@/steps/AddressField";
import { Button } from "@/parts/Button";
import { Choose } from "@/parts/Choose";

import { started } from "./building";
import type { Layout } from "./packs";

interface Props {
  items: Item[];
  item: string | null;
  layouts: Layout[];
  onPut: (change: (before: Recipe) => [Recipe, string]) => void;
}

/** The way to a first texture: its layout, whose size it takes, and whether what a template holds is kept. */
export function StartPack({ items, item, layouts, onPut }: Props) {
  const sound = items.filter((entry) => !entry.problem);
  const [layoutName, setLayout] = useState("orm");
  const [likeName, setLike] = useState<string | undefined>(undefined);
  const [keep, setKeep] = useState(true);
  const layout = layouts.find((each) => each.name === layoutName) ?? layouts[0];
  const chosen = likeName ?? (sound.some((entry) => entry.name === item) ? item! : sound[0]?.name);
  const like = sound.find((entry) => entry.name === chosen);
  const keepable =
    like !== undefined && (like.plane || like.channels.every((name) => like.data.includes(name)));
  return (
    <section aria-label="Start a texture" className="space-y-3 p-3 text-[12px]">
      <h2 className="text-[13px] font-semibold">Build a texture channel by channel</h2>
      <p className="leading-snug text-dim">
        Each channel gets a bay: a base in per cent, and bars over it, laid in by masks. The bays are packed
        into one texture in the order of a layout.
      </p>
      <div className="grid grid-cols-[84px_1fr] items-center gap-2">
        <span className="text-dim">Layout</span>
        <Choose
          label="Layout"
          value={layout?.name ?? ""}
          options={layouts.map((each) => ({ value: each.name, label: each.title }))}
          onChange={setLayout}
        />
      </div>
      <AddressField
        label="Size of"
        kind="any"
        value={chosen}
        items={sound.filter((entry) => !entry.name.includes("."))}
        onChange={(next) => next && setLike(next.split(".")[0])}
      />
      {like?.display && (
        <p className="font-mono text-faint">
          {like.display[2]} × {like.display[3]}
        </p>
      )}
      {keepable && (
        <Button lit={keep} onClick={() => setKeep(!keep)}>
          Keep what {like.name} holds as detail
        </Button>
      )}
      {like && layout ? (
        <Button main onClick={() => onPut((before) => started(before, layout, like, keepable && keep))}>
          Make the bays
        </Button>
      ) : (
        <p className="text-dim">
          Drop a template, a mask or a base colour here first: it gives the bays their size.
        </p>
      )}
    </section>
  );
}
