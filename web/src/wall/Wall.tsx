import { useQueries } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { Plus } from "lucide-react";
import { type KeyboardEvent, type ReactNode, memo, useEffect, useMemo, useRef, useState } from "react";

import type { Item } from "@/api/client";
import { sourceQuery } from "@/api/queries";
import { type Recipe, sourcesOf, stepsOf } from "@/api/recipe";
import { Hint } from "@/help/Hint";
import { FileInput } from "@/parts/FileInput";
import { Button } from "@/parts/Button";
import { Cut } from "@/parts/Cut";
import { useImport, useDraftSources } from "@/shot/sources";
import { useView } from "@/stage/viewState";

import { Imports } from "./Imports";
import { type Row, wallRows } from "./rows";
import { Tile } from "./Tile";
import { together } from "./together";

interface Props {
  shot: number;
  recipe: Recipe;
  items: Item[];
  item: string | null;
  writable: boolean;
  onChoose: (item: string) => void;
  onCross: (a: string, b: string) => void;
  /** Change the recipe and bring the named item into focus. */
  onPut: (change: (before: Recipe) => [Recipe, string]) => void;
}

const HEIGHT: Record<Row["kind"], number> = { heading: 26, tiles: 98 };

/** The contact sheet of channels, two tiles wide; only what is in view is drawn and fetched. */
export function Wall({ shot, recipe, items, item, writable, onChoose, onCross, onPut }: Props) {
  const [filter, setFilter] = useState("");
  const picker = useRef<HTMLInputElement>(null);
  const sources = useDraftSources();
  const importFiles = useImport();
  const { alone, change } = useView();
  const used = Object.values(sourcesOf(recipe)).map((spec) => spec.files);
  const inUse = sources.filter((row) => used.includes(row.files));
  const wholes = useQueries({
    queries: inUse.map((row) => sourceQuery(shot, row.id, row.state !== "ready")),
    combine: dataOf,
  });
  const rows = useMemo(
    () => wallRows(recipe, items, sources, wholes, item, filter),
    [recipe, items, sources, item, filter, wholes],
  );

  const rowsOf = (name: string, channels: string[]) => {
    const files = sourcesOf(recipe)[name]?.files;
    const source = inUse.find((row) => row.files === files);
    const whole = wholes.find((entry) => entry?.id === source?.id);
    return channels.flatMap((channel) => whole?.channel_rows.find((row) => row.name === channel) ?? []);
  };
  const isWhole = (name: string) =>
    inUse.some((row) => row.files === sourcesOf(recipe)[name]?.files && row.state === "ready" && !row.frames);
  const isShown = (name: string, channels: string[]) =>
    alone?.item === name && item === name && alone.channels.join() === channels.join();
  const show = (name: string, channels: string[], add: boolean) => {
    if (add && name !== item && writable && channels.length === 1) {
      // Channels of several files are put together as a step.
      const plane = items.some((entry) => entry.name === item && entry.plane);
      const shown = alone?.item === item ? alone.channels.map((channel) => `${item}.${channel}`) : [];
      const added = `${name}.${channels[0]!}`;
      const make = (before: Recipe) =>
        together(before, item, item && plane && !shown.length ? [item] : shown, added);
      if (make(recipe)) {
        onPut((before) => make(before) ?? [before, name]);
        return;
      }
    }
    const before = alone?.item === name ? alone.channels : [];
    if (add) {
      const without = before.filter((other) => !channels.includes(other));
      const joined = without.length < before.length ? without : [...before, ...channels].slice(-3);
      change({ alone: joined.length ? { item: name, channels: joined } : null });
    } else change({ alone: isShown(name, channels) ? null : { item: name, channels } });
    if (item !== name) onChoose(name);
  };
  const draw = (row: Row) =>
    row.kind === "heading" ? (
      <Heading row={row} chosen={item === row.item} onChoose={onChoose} />
    ) : (
      <div className="flex gap-2">
        {row.tiles.map((tile) => (
          <Tile
            key={tile.channels.join("+")}
            {...tile}
            shot={shot}
            rows={rowsOf(tile.item, tile.channels)}
            own={sourcesOf(recipe)[tile.item] !== undefined}
            whole={isWhole(tile.item)}
            lit={
              isShown(tile.item, tile.channels) ||
              (tile.channels.length === 1 &&
                alone?.item === tile.item &&
                alone.channels.includes(tile.channels[0]!) &&
                item === tile.item)
            }
            onShow={(add) => show(tile.item, tile.channels, add)}
            onCross={(dragged) => onCross(dragged, `${tile.item}.${tile.channels[0]}`)}
          />
        ))}
      </div>
    );

  return (
    <nav aria-label="Channels" className="flex w-[216px] shrink-0 flex-col border-r border-line bg-panel">
      <div className="flex gap-1 p-3 pb-2">
        <input
          aria-label="Filter channels or roles"
          title="Channels by their names, or by roles such as depth; Escape shows all"
          placeholder="Filter channels or roles"
          value={filter}
          onChange={(event) => setFilter(event.target.value)}
          onKeyDown={(event) => {
            event.stopPropagation();
            if (event.key === "Escape") setFilter("");
          }}
          className="h-6 min-w-0 grow rounded-sm border border-line bg-well px-2 text-[12px] placeholder:text-dim"
        />
        {writable && (
          <>
            <Button
              aria-label="Add pictures"
              title="Add pictures; or drop them anywhere"
              onClick={() => picker.current?.click()}
            >
              <Plus size={13} />
            </Button>
            <FileInput
              picker={picker}
              multiple
              testId="picture-files"
              onFiles={(files) => void importFiles(files)}
            />
          </>
        )}
      </div>
      {writable && rows.length > 0 && stepsOf(recipe).length === 0 && (
        <Hint className="mx-3 mb-2">
          A click shows a channel alone, a second one the whole. Drag one onto another to cross them.
        </Hint>
      )}
      <Imports shot={shot} recipe={recipe} sources={sources} writable={writable} />
      <Sheet rows={rows} item={item} draw={draw} onChoose={onChoose}>
        {filter
          ? "No channel has this in its name or role."
          : "No pictures yet. Drop EXR, PNG, JPEG or TIFF files here."}
      </Sheet>
    </nav>
  );
}

const dataOf = <T,>(answers: { data: T | undefined }[]) => answers.map((answer) => answer.data);

interface SheetProps {
  rows: Row[];
  item: string | null;
  draw: (row: Row) => ReactNode;
  onChoose: (item: string) => void;
  /** What stands where there is no row. */
  children: ReactNode;
}

/** Rows of which only those in view are there. */
function Sheet({ rows, item, draw, onChoose, children }: SheetProps) {
  const scroller = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => scroller.current,
    estimateSize: (index) => HEIGHT[rows[index]!.kind],
    getItemKey: (index) => rows[index]!.key + rows[index]!.kind,
    overscan: 4,
  });
  const heading = rows.findIndex((row) => row.kind === "heading" && row.item === item);
  const { scrollToIndex } = virtual;
  // What is chosen elsewhere comes into view here.
  useEffect(() => {
    if (heading >= 0) scrollToIndex(heading, { align: "start" });
    // Only a new choice scrolls, not a row that moved.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [item]);
  const top = virtual.getVirtualItems().find((entry) => entry.end > (virtual.scrollOffset ?? 0))?.index ?? 0;
  const sticky = rows.slice(0, top + 1).findLast((row) => row.kind === "heading");
  return (
    <div className="relative min-h-0 grow">
      {sticky?.kind === "heading" && rows.length > 0 && (
        <div className="absolute inset-x-0 top-0 z-10 bg-panel px-3">
          <Heading row={sticky} chosen={item === sticky.item} onChoose={onChoose} />
        </div>
      )}
      <div
        ref={scroller}
        className="h-full overflow-y-auto overflow-x-hidden"
        tabIndex={-1}
        onKeyDown={(event) => walk(event, scroller.current)}
      >
        <div style={{ height: virtual.getTotalSize() }} className="relative">
          {virtual.getVirtualItems().map((entry) => (
            <div
              key={entry.key}
              style={{ transform: `translateY(${entry.start}px)` }}
              className="absolute inset-x-0 px-3"
            >
              <Drawn row={rows[entry.index]!} draw={draw} />
            </div>
          ))}
        </div>
        {rows.length === 0 && <p className="px-3 text-[12px] text-dim">{children}</p>}
      </div>
    </div>
  );
}

/** A row that is drawn anew only where it changed, not as the others are scrolled by. */
const Drawn = memo(({ row, draw }: { row: Row; draw: (row: Row) => ReactNode }) => draw(row));
Drawn.displayName = "Drawn";

const TURNS: Record<string, [number, number]> = {
  ArrowLeft: [-1, 0],
  ArrowRight: [1, 0],
  ArrowUp: [0, -1],
  ArrowDown: [0, 1],
};

/** From tile to tile with the arrow keys: to the nearest one that lies that way. */
function walk(event: KeyboardEvent, scroller: HTMLElement | null): void {
  const turn = TURNS[event.key];
  const from = (event.target as HTMLElement).closest<HTMLElement>("[data-tile]");
  if (!turn || !from || !scroller) return;
  event.preventDefault();
  event.stopPropagation();
  const step = () => {
    const own = from.getBoundingClientRect();
    const away = [...scroller.querySelectorAll<HTMLElement>("[data-tile]")].flatMap((tile) => {
      const box = tile.getBoundingClientRect();
      const [dx, dy] = [box.left - own.left, box.top - own.top];
      const ahead = turn[0] ? dx * turn[0] > 1 && Math.abs(dy) < 1 : dy * turn[1] > 1;
      return ahead ? [{ tile, far: Math.abs(dx) + Math.abs(dy) * (turn[1] ? 3 : 1) }] : [];
    });
    return away.sort((a, b) => a.far - b.far)[0]?.tile;
  };
  const next = step();
  if (next) {
    next.focus();
    next.scrollIntoView({ block: "nearest" });
  } else if (turn[1]) {
    // Only what is in view is there: the next row comes with scrolling.
    scroller.scrollBy({ top: turn[1] * HEIGHT.tiles });
    requestAnimationFrame(() => requestAnimationFrame(() => step()?.focus()));
  }
}

function Heading({
  row,
  chosen,
  onChoose,
}: {
  row: Row & { kind: "heading" };
  chosen: boolean;
  onChoose: (item: string) => void;
}) {
  return (
    <div className="flex h-[26px] items-center justify-between gap-2">
      <button
        type="button"
        onClick={() => onChoose(row.item)}
        title={`${row.item}${row.layer ? ` · ${row.layer}` : ""}: shows it on the stage`}
        className={`flex min-w-0 font-narrow text-[12px] font-semibold hover:text-lichen ${chosen && !row.layer ? "text-lichen" : "text-text"}`}
      >
        <Cut text={row.item} />
        {row.layer && (
          <>
            <span className="whitespace-pre font-normal text-dim"> · </span>
            <Cut text={row.layer} className="font-normal text-dim" />
          </>
        )}
      </button>
      <span className="shrink-0 truncate font-mono text-[10px] text-faint">{row.note}</span>
    </div>
  );
}
