import type { DragEvent } from "react";

import { ApiError, type ChannelRow } from "@/api/client";
import type { Recipe } from "@/api/recipe";
import { useHistogram, useSmallPlanes } from "@/stage/planes";
import { SmallPicture } from "@/stage/SmallPicture";

import { dataRange } from "./ranges";
import { Skyline } from "./Skyline";

export const DRAGGED = "application/x-nexal-address";

interface Props {
  shot: number;
  recipe: Recipe;
  item: string;
  digest: string;
  channel: string;
  row: ChannelRow | null;
  data: boolean;
  lit: boolean;
  waiting: boolean;
  onShow: (together: boolean) => void;
  onCross: (address: string) => void;
}

const TINT: Record<string, string> = { R: "text-red", G: "text-green", B: "text-blue", A: "text-alpha" };

/** A short number: .01, 12.4, 1.2k. */
export function short(value: number): string {
  const size = Math.abs(value);
  if (size >= 10000) return value.toExponential(0).replace("+", "");
  if (size >= 100) return value.toFixed(0);
  if (size >= 10) return value.toFixed(1);
  const fixed = value.toFixed(2);
  return Number(fixed) === Math.round(value) ? String(Math.round(value)) : fixed.replace(/^(-?)0\./, "$1.");
}

/** A channel as its own greyscale picture, with skyline and range. */
export function Tile({
  shot,
  recipe,
  item,
  digest,
  channel,
  row,
  data,
  lit,
  waiting,
  onShow,
  onCross,
}: Props) {
  const address = `${item}.${channel}`;
  const planes = useSmallPlanes(shot, recipe, address, digest, !waiting);
  const last = channel.split(".").pop() ?? channel;
  const tint = data && last !== "A" ? "text-lilac" : (TINT[last] ?? "text-alpha");
  const report = row?.report;
  const made = useHistogram(shot, recipe, address, digest, row === null && !waiting).data;
  const counts = report?.histogram.counts ?? made?.counts;
  const ends =
    report ?? (made && made.min !== null && made.max !== null ? { min: made.min, max: made.max } : null);
  const range = ends ? `${short(ends.min ?? 0)}–${short(ends.max ?? 0)}` : "";
  const drop = (event: DragEvent) => {
    const dragged = event.dataTransfer.getData(DRAGGED);
    if (!dragged || dragged === address) return;
    event.preventDefault();
    event.stopPropagation();
    onCross(dragged);
  };
  return (
    <button
      type="button"
      draggable
      aria-pressed={lit}
      title={`${address}${row ? ` · ${row.type}, ${row.role}` : ""}\nShift-click shows several together; drop one tile on another to cross them`}
      onDragStart={(event) => event.dataTransfer.setData(DRAGGED, address)}
      onDragOver={(event) => event.dataTransfer.types.includes(DRAGGED) && event.preventDefault()}
      onDrop={drop}
      onClick={(event) => onShow(event.shiftKey)}
      className={`block w-[91px] overflow-hidden rounded-sm border text-left ${lit ? "border-lichen" : "border-line hover:border-faint"}`}
    >
      {planes.isError ? (
        <span className="flex h-[52px] items-center justify-center bg-well px-1 text-center text-[11px] text-dim">
          {planes.error instanceof ApiError && planes.error.problem.code === "pending"
            ? "not computed yet"
            : "cannot be shown"}
        </span>
      ) : (
        <SmallPicture
          planes={planes.data}
          look={report && data ? { range: dataRange(report) } : {}}
          label={`Channel ${address}`}
          className="h-[52px] w-full"
        />
      )}
      <span className={`block bg-well ${tint}`}>
        {counts ? <Skyline counts={counts} /> : <span className="block h-3.5" />}
      </span>
      <span className="flex items-baseline justify-between gap-1 px-1.5 py-0.5">
        <span className="truncate font-narrow text-[12px] text-text">{last}</span>
        <span className="shrink-0 font-mono text-[10px] text-faint">{range || (waiting ? "…" : "")}</span>
      </span>
    </button>
  );
}
