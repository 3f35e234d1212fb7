import { useVirtualizer } from "@tanstack/react-virtual";
import { useRef } from "react";

import type { SourceWhole } from "@/api/client";
import { Choose } from "@/parts/Choose";

const ROW = 24;
/** As many are seen at once; the others are scrolled to. */
const ROWS_SEEN = 12;
const COLUMNS = "grid grid-cols-3 items-center gap-2";

interface Props {
  source: SourceWhole;
  /** What layers are where the guess is wrong. */
  corrected: Record<string, string> | undefined;
  writable: boolean;
  onCorrect: (layer: string, role: string, guess: string) => void;
}

/** What every layer of a source is, however many there are: those in sight are drawn. */
export function SourceLayers({ source: { layers, roles }, corrected, writable, onCorrect }: Props) {
  const scroller = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: layers.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => ROW,
    overscan: 4,
  });
  return (
    <div
      role="table"
      aria-label="Layers"
      aria-rowcount={layers.length + 1}
      className="border-t border-line pt-1"
    >
      <div role="rowgroup" className="pr-1.5 text-[11px] text-faint">
        <div role="row" aria-rowindex={1} className={`${COLUMNS} py-1`}>
          <span role="columnheader">{layers.length > ROWS_SEEN ? `${layers.length} layers` : "layer"}</span>
          <span role="columnheader">is</span>
          <span role="columnheader">by</span>
        </div>
      </div>
      <div
        ref={scroller}
        role="rowgroup"
        style={{ height: ROW * Math.min(layers.length, ROWS_SEEN) }}
        className="overflow-y-auto overflow-x-hidden pr-1.5"
      >
        <div role="presentation" style={{ height: virtual.getTotalSize() }} className="relative">
          {virtual.getVirtualItems().map(({ index, start }) => {
            const layer = layers[index]!;
            const name = layer.name || "(picture)";
            return (
              <div
                key={layer.name}
                role="row"
                aria-rowindex={index + 2}
                style={{ transform: `translateY(${start}px)`, height: ROW }}
                className={`${COLUMNS} absolute inset-x-0 top-0`}
              >
                <span role="cell" title={name} className="truncate font-mono">
                  {name}
                </span>
                <span role="cell">
                  <Choose
                    label={`${name} is`}
                    value={corrected?.[layer.name] ?? layer.role}
                    options={roles}
                    disabled={!writable}
                    onChange={(role) => onCorrect(layer.name, role, layer.role)}
                    className="h-5! w-24"
                  />
                </span>
                <span role="cell" title={layer.reason} className="truncate text-faint">
                  {corrected?.[layer.name] ? "as you say" : layer.reason}
                </span>
              </div>
            );
          })}
        </div>
      </div>
    </div>
  );
}
