import { GripVertical } from "lucide-react";
import { type DragEvent, useState } from "react";

import type { Item } from "@/api/client";

import { Cut } from "@/parts/Cut";
import { OwnNotch } from "@/time/Notch";

import { BarDetails } from "./BarDetails";
import { type Bar, verbOf } from "./packs";
import { ValueBoxes } from "./ValueBoxes";

export const DRAGGED_BAR = "application/x-nexal-bar";

export interface BarProps {
  bay: string;
  bar: Bar;
  index: number;
  count: number;
  base: number;
  modes: string[];
  items: Item[];
  /** Other bays that the bar can be copied to. */
  others: { name: string; label: string }[];
  open: boolean;
  onOpen: () => void;
  onChange: (change: Partial<Bar>, done?: boolean) => void;
  onMove: (from: number, to: number) => void;
  onCopy: (bay: string) => void;
  onRemove: () => void;
}

/** One bar of a bay: what is laid in and how strongly; opened, everything else about it. */
export function BarRow(props: BarProps) {
  const { bay, bar, index, count, base, open, onOpen, onChange, onMove } = props;
  const [over, setOver] = useState(false);
  const name = bar.mask ?? bar.from ?? "all of it";
  const label = `Bar ${count - index} of ${bay}`;
  const off = bar.on === false;
  const words = bar.invert_mask && bar.mask ? `outside ${name}` : name;
  const verb = off ? "off" : verbOf(bar, base);
  const drop = (event: DragEvent) => {
    const dragged = event.dataTransfer.getData(DRAGGED_BAR).split(" ");
    setOver(false);
    if (dragged[0] !== bay) return;
    event.preventDefault();
    event.stopPropagation();
    onMove(Number(dragged[1]), index);
  };
  return (
    <li
      aria-label={label}
      className={`border-t ${over ? "border-lichen" : "border-transparent"}`}
      onDragOver={(event) => {
        if (!event.dataTransfer.types.includes(DRAGGED_BAR)) return;
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={drop}
    >
      <div
        className={`group/moving flex h-6 items-center gap-1 pl-0.5 pr-2 ${off ? "opacity-45" : ""}`}
        data-setting
      >
        <span
          draggable
          title="Drag to another place in the bay"
          className="cursor-grab text-faint"
          onDragStart={(event) => event.dataTransfer.setData(DRAGGED_BAR, `${bay} ${index}`)}
        >
          <GripVertical size={12} aria-hidden />
        </span>
        <button
          type="button"
          aria-expanded={open}
          aria-label={`${label}: ${words} ${verb}`}
          title={bar.from && bar.mask ? `${bar.from}, where ${bar.mask} covers` : name}
          onClick={onOpen}
          className="flex min-w-0 grow items-baseline gap-1 text-left hover:text-lichen"
        >
          <Cut text={words} /> <span className="shrink-0 text-[11px] text-faint">{verb}</span>
        </button>
        {bar.value !== undefined && (
          <OwnNotch step={bay} place={["layers", index, "value"]} label={`${label}, value`} initial={0} />
        )}
        {bar.value !== undefined ? (
          <ValueBoxes label={label} value={bar.value} onChange={(value, done) => onChange({ value }, done)} />
        ) : (
          <span className="shrink-0 pr-1 font-mono text-[11px] text-faint">
            {bar.mask ? bar.from : `${Math.round((bar.opacity ?? 1) * 100)} %`}
          </span>
        )}
      </div>
      {open && <BarDetails {...props} label={label} />}
    </li>
  );
}
