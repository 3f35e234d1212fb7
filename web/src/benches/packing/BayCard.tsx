import type { Item, OperationRow } from "@/api/client";
import { itemOf } from "@/api/recipe";
import { useHistogram } from "@/stage/planes";
import { Skyline } from "@/wall/Skyline";
import { short } from "@/wall/Tile";

import { BarList } from "./BarList";
import type { Bay } from "./packs";

interface Props {
  shot: number;
  items: Item[];
  bay: Bay;
  lit: boolean;
  operations: OperationRow[];
  others: { name: string; label: string }[];
  writable: boolean;
  onChoose: (item: string) => void;
}

const TINT: Record<string, string> = { R: "text-red", G: "text-green", B: "text-blue", A: "text-alpha" };

/** One destination channel: what it stands for, its range and skyline, and the bars that build it. */
export function BayCard({ shot, items, bay, lit, operations, others, writable, onChoose }: Props) {
  const known = items.find((item) => item.name === itemOf(bay.address));
  const histogram = useHistogram(shot, known, bay.address, !known?.problem).data;
  const range =
    histogram && histogram.min !== null && histogram.max !== null
      ? `${short(histogram.min)}–${short(histogram.max)}`
      : "";
  return (
    <section
      aria-label={`Bay ${(bay.meaning || bay.address).replaceAll("_", " ")}`}
      className={`rounded-sm border ${lit ? "border-lichen" : "border-line"}`}
    >
      <button
        type="button"
        onClick={() => onChoose(itemOf(bay.address))}
        className="flex h-7 w-full items-center gap-2 px-2 text-left text-[12px]"
      >
        <span className={`font-mono font-semibold ${TINT[bay.channel]}`}>{bay.channel}</span>
        <span className="truncate">
          {bay.meaning.replaceAll("_", " ") || bay.address}
          {bay.inverted && <span className="text-faint"> · 1 − v</span>}
          {bay.meaning && bay.meaning !== bay.address && <span className="text-faint"> · {bay.address}</span>}
        </span>
        <span className="grow" />
        <span className={`w-16 ${TINT[bay.channel]}`}>
          {histogram && <Skyline counts={histogram.counts} />}
        </span>
        <span className="w-16 shrink-0 text-right font-mono text-[11px] text-faint">{range}</span>
      </button>
      <div className="border-t border-line">
        {bay.step ? (
          <BarList
            items={items}
            step={bay.step}
            operations={operations}
            others={others}
            writable={writable}
            adding={lit}
          />
        ) : (
          <p className="px-2 py-1.5 text-[12px] text-dim">
            Fed from {bay.address} as it is. Add a bay to build it from bars.
          </p>
        )}
      </div>
    </section>
  );
}
