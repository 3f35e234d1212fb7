import type { DragEvent } from "react";

import type { ChannelRow, Item } from "@/api/client";
import { useHistogram, useSmallPlanes } from "@/stage/planes";
import { SmallPicture } from "@/stage/SmallPicture";

import { Skyline } from "./Skyline";

export const DRAGGED = "application/x-nexal-address";

interface Props {
  shot: number;
  item: string;
  known: Item;
  /** One channel, or those of a layer that are one picture together. */
  channels: string[];
  layer: string;
  /** What the source says of them; empty for a step. */
  rows: ChannelRow[];
  data: boolean;
  /** Whether it belongs to a source, which has reports of its own. */
  own: boolean;
  /** Whether all of that is unpacked, told or not. */
  whole: boolean;
  lit: boolean;
  onShow: (add: boolean) => void;
  onCross: (address: string) => void;
}

const SKYLINES = ["text-red", "text-green", "text-blue"];

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

const lastOf = (channel: string) => channel.split(".").pop() ?? channel;

/** A channel as its own greyscale picture, or a layer's channels together, with skyline and range. */
export function Tile({ shot, item, known, channels, layer, rows, data, own, whole, lit, ...on }: Props) {
  const together = channels.length > 1;
  const address = `${item}.${together ? layer : channels[0]!}`;
  const reports = rows.flatMap((row) => row.report ?? []);
  const waiting = own && reports.length < channels.length;
  const planes = useSmallPlanes(shot, known, address, whole || !waiting);
  const name = channels.map(lastOf).join(" ");
  const tint = data && name !== "A" ? "text-lilac" : (TINT[name] ?? "text-alpha");
  const made = useHistogram(shot, known, address, !own).data;
  const skylines = own ? reports.map((report) => report.histogram.counts) : made ? [made.counts] : [];
  const ends = own ? reports : made && made.min !== null && made.max !== null ? [made] : [];
  const range = ends.length
    ? `${short(Math.min(...ends.map((end) => end.min ?? 0)))}–${short(Math.max(...ends.map((end) => end.max ?? 0)))}`
    : "";
  const drop = (event: DragEvent) => {
    const dragged = event.dataTransfer.getData(DRAGGED);
    if (!dragged || dragged === address) return;
    event.preventDefault();
    event.stopPropagation();
    on.onCross(dragged);
  };
  return (
    <button
      type="button"
      draggable
      data-tile={address}
      aria-pressed={lit}
      title={`${address}${rows[0] ? ` · ${rows[0].type}, ${rows[0].role}` : ""}\nShift-click shows several together, of several files as a step; drop one tile on another to cross them, on the lineage to copy it`}
      onDragStart={(event) => event.dataTransfer.setData(DRAGGED, address)}
      onDragOver={(event) => event.dataTransfer.types.includes(DRAGGED) && event.preventDefault()}
      onDrop={drop}
      onClick={(event) => on.onShow(event.shiftKey)}
      className={`block w-[91px] overflow-hidden rounded-sm border text-left ${lit ? "border-lichen" : "border-line hover:border-faint"}`}
    >
      <SmallPicture
        planes={planes.data}
        error={planes.error}
        label={together ? `Channels ${address}, ${name}` : `Channel ${address}`}
        className="h-[52px] w-full"
      />
      <span className={`relative block h-3.5 bg-well ${tint}`}>
        {skylines.map((counts, index) => (
          <Skyline
            key={index}
            counts={counts}
            className={together ? `absolute inset-0 mix-blend-screen ${SKYLINES[index] ?? ""}` : ""}
          />
        ))}
      </span>
      <span className="flex items-baseline justify-between gap-1 px-1.5 py-0.5">
        <span className={`font-narrow text-[12px] text-text ${together ? "shrink-0" : "truncate"}`}>
          {name}
        </span>
        <span className={`font-mono text-[10px] text-faint ${together ? "truncate" : "shrink-0"}`}>
          {range || (waiting ? "…" : "")}
        </span>
      </span>
    </button>
  );
}
