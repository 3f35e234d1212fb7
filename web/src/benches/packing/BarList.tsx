import { useState } from "react";

import type { Item, OperationRow } from "@/api/client";
import { type Step, setSetting } from "@/api/recipe";
import { AddressField } from "@/steps/AddressField";
import { useDraft } from "@/shot/draft";
import { OwnNotch } from "@/time/Notch";
import { DRAGGED } from "@/wall/Tile";

import { BarRow } from "./BarRow";
import { above, barsOf, baseOf, firstValue, movedBar, withBar, withBarOn, withBars } from "./packs";
import { ValueBoxes } from "./ValueBoxes";

interface Props {
  items: Item[];
  step: Step;
  operations: OperationRow[];
  /** Other bays, with what they are called on the screen. */
  others: { name: string; label: string }[];
  writable: boolean;
  /** Whether the fields that add a bar are there: in the bay in focus, and in one that has none yet. */
  adding: boolean;
}

/** The bars of a bay, the uppermost first, and its base below them. A tile dropped here is laid in as a mask. */
export function BarList({ items, step, operations, others, writable, adding }: Props) {
  const edit = useDraft((state) => state.edit);
  const [over, setOver] = useState(false);
  const [opened, setOpened] = useState<number | null>(null);
  const bars = barsOf(step);
  const base = baseOf(step);
  const modes = modesOf(operations);
  const usable = above(items, step.name).filter((item) => !item.problem);
  const rows = bars.map((bar, index) => ({ bar, index })).reverse();
  const reorder = (from: number, to: number) => {
    setOpened(null);
    edit((before) => withBars(before, step.name, (old) => movedBar(old, from, to)));
    // What was opened goes along with its bar.
    if (opened === from) setOpened(to);
  };
  return (
    <fieldset
      disabled={!writable}
      className={`min-w-0 text-[12px] ${over ? "bg-raised" : ""}`}
      onDragOver={(event) => {
        if (!writable || !event.dataTransfer.types.includes(DRAGGED)) return;
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(event) => {
        const mask = event.dataTransfer.getData(DRAGGED);
        setOver(false);
        if (!mask || event.defaultPrevented || !writable) return;
        event.preventDefault();
        edit((before) => withBarOn(before, step.name, { value: firstValue(base), mask }));
      }}
    >
      <ul aria-label={`Bars of ${step.name}`}>
        {rows.map(({ bar, index }) => (
          <BarRow
            key={index}
            bay={step.name}
            bar={bar}
            index={index}
            count={bars.length}
            base={base}
            modes={modes}
            items={usable}
            others={others}
            open={opened === index}
            onOpen={() => setOpened(opened === index ? null : index)}
            onChange={(change, done = true) =>
              edit((before) => withBar(before, step.name, index, change), done)
            }
            onMove={reorder}
            onCopy={(other) => edit((before) => withBarOn(before, other, bar))}
            onRemove={() => {
              setOpened(null);
              edit((before) => withBars(before, step.name, (old) => old.filter((_, at) => at !== index)));
            }}
          />
        ))}
      </ul>
      <div className="group/moving flex h-6 items-center gap-1 pl-5 pr-2" data-setting>
        <span className="grow text-dim">base</span>
        <OwnNotch
          step={step.name}
          place={["base"]}
          label={`Base of ${step.name}`}
          initial={base}
          writable={writable}
        />
        <ValueBoxes
          label={`Base of ${step.name}`}
          value={base}
          onChange={(next, done) => edit((before) => setSetting(before, step.name, "base", next), done)}
        />
      </div>
      {writable && (adding || bars.length === 0) && (
        <div className="grid grid-cols-2 gap-1 px-2 pb-2 pt-1">
          <AddressField
            bare
            label={`Lay a value into ${step.name} by a mask`}
            empty={`+ ${100 * firstValue(base)} % mask`}
            kind="plane"
            value={undefined}
            items={usable}
            onChange={(mask) =>
              mask && edit((before) => withBarOn(before, step.name, { value: firstValue(base), mask }))
            }
          />
          <AddressField
            bare
            label={`Lay a channel into ${step.name}`}
            empty="+ a channel"
            kind="plane"
            value={undefined}
            items={usable}
            onChange={(from) => from && edit((before) => withBarOn(before, step.name, { from }))}
          />
        </div>
      )}
    </fieldset>
  );
}

/** The ways to blend, as the operation's own schema lists them for a bar. */
function modesOf(operations: OperationRow[]): string[] {
  const settings = operations.find((row) => row.op === "bay")?.settings as
    { layers?: { items?: { properties?: { mode?: { enum?: string[] } } } } } | undefined;
  return settings?.layers?.items?.properties?.mode?.enum ?? ["normal"];
}
