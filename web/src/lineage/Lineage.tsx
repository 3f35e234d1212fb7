import { EllipsisVertical } from "lucide-react";
import { type DragEvent, memo, useEffect, useLayoutEffect, useRef, useState } from "react";

import type { Item } from "@/api/client";
import { type Recipe, type Step, placesFor, sourcesOf, stepsOf } from "@/api/recipe";
import { Hint } from "@/help/Hint";
import { Flag } from "@/notes/Flag";
import { type NoteRow, useNoting, useOpenNotes } from "@/notes/notes";
import { Cut } from "@/parts/Cut";
import { type Choice, Menu } from "@/parts/Menu";
import { useSeen } from "@/parts/useSeen";
import { useSteady } from "@/parts/useSteady";
import { DRAGGED } from "@/wall/Tile";
import { coverageWords } from "@/stage/coverage";
import { useSmallPlanes } from "@/stage/planes";
import { SmallPicture } from "@/stage/SmallPicture";

import { Threads } from "./Threads";
import { type Actions, choicesFor } from "./actions";

const MOVED = "application/x-nexal-step";

interface Props {
  shot: number;
  recipe: Recipe;
  items: Item[];
  item: string | null;
  writable: boolean;
  actions: Actions;
  /** Steps taken together, to be copied or kept. */
  picked: string[];
  onPick: (item: string) => void;
  onChoose: (item: string) => void;
  onAdd: () => void;
  onDropChannel: (address: string) => void;
  onCopyChannel: (address: string) => void;
}

/** What was made from what, as pictures: sources, then steps. */
export function Lineage({
  shot,
  recipe,
  items,
  item,
  writable,
  actions,
  picked,
  onPick,
  onChoose,
  onAdd,
  onDropChannel,
  onCopyChannel,
}: Props) {
  const ribbon = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(0);
  const sources = Object.keys(sourcesOf(recipe));
  const steps = stepsOf(recipe);
  const notes = useOpenNotes(shot).data?.rows ?? [];

  useLayoutEffect(() => {
    setWidth(ribbon.current?.scrollWidth ?? 0);
  }, [recipe]);
  useEffect(() => {
    ribbon.current
      ?.querySelector('[aria-current="true"]')
      ?.scrollIntoView({ block: "nearest", inline: "nearest" });
  }, [item]);

  const steady = useSteady({
    onPick,
    onChoose,
    onMove: actions.move,
    onRename: actions.rename,
    choices: (name: string) => {
      const position = steps.findIndex((step) => step.name === name);
      return choicesFor(name, steps[position], position, placesFor(recipe, name), actions);
    },
  });
  const near = related(items, item);
  const described = new Map(items.map((entry) => [entry.name, entry]));
  const cell = (name: string, step?: Step, position = -1) => (
    <Cell
      key={name}
      shot={shot}
      name={name}
      step={step}
      position={position}
      item={described.get(name)}
      chosen={name === item}
      related={near.has(name)}
      notes={notes.some((note) => note.item === name) ? notes.filter((note) => note.item === name) : NO_NOTES}
      writable={writable}
      picked={picked.includes(name)}
      {...steady}
    />
  );
  return (
    <section aria-label="Lineage" className="h-28 shrink-0 border-t border-line bg-panel">
      <div
        ref={ribbon}
        className="relative flex h-full items-start gap-3.5 overflow-x-auto overflow-y-hidden px-3 pt-3.5"
        onDragOver={(event) =>
          writable && event.dataTransfer.types.includes(DRAGGED) && event.preventDefault()
        }
        onDrop={(event) => {
          const address = event.dataTransfer.getData(DRAGGED);
          if (address && writable) onCopyChannel(address);
        }}
        onKeyDown={(event) => {
          const turn = event.key === "ArrowRight" ? 1 : event.key === "ArrowLeft" ? -1 : 0;
          const from = (event.target as HTMLElement).dataset.item;
          const names = [...sources, ...steps.map((step) => step.name)];
          const next = from ? names[names.indexOf(from) + turn] : undefined;
          if (!turn || !next) return;
          event.preventDefault();
          onChoose(next);
          ribbon.current?.querySelector<HTMLElement>(`[data-item="${next}"]`)?.focus();
        }}
      >
        <Threads width={width} recipe={recipe} items={items} item={item} container={ribbon} />
        {sources.map((name) => cell(name))}
        {steps.length > 0 && sources.length > 0 && <span className="mt-1 h-[76px] w-px shrink-0 bg-line" />}
        {steps.map((step, position) => cell(step.name, step, position))}
        {writable && (
          <button
            type="button"
            onClick={onAdd}
            title="Add a step by name or need (/); drop a channel here to stretch it"
            onDragOver={(event) => event.dataTransfer.types.includes(DRAGGED) && event.preventDefault()}
            onDrop={(event: DragEvent) => {
              const address = event.dataTransfer.getData(DRAGGED);
              event.stopPropagation();
              if (address) onDropChannel(address);
            }}
            className="flex h-[57px] w-16 shrink-0 items-center justify-center rounded-sm border border-dashed border-line text-[12px] text-dim hover:border-faint hover:text-text"
          >
            add&nbsp;<kbd className="font-mono">/</kbd>
          </button>
        )}
        {writable && sources.length > 0 && steps.length === 0 && (
          <Hint className="mt-1 max-w-72">
            What you make of a picture stands here, step by step. Press / and type what you need, such as
            “soften” or “green screen”.
          </Hint>
        )}
      </div>
    </section>
  );
}

/** The inputs and users of an item. */
export function related(items: Item[], item: string | null): Set<string> {
  const own = items.find((entry) => entry.name === item)?.inputs ?? [];
  return new Set([
    ...own,
    ...items.filter((entry) => item && entry.inputs.includes(item)).map((entry) => entry.name),
  ]);
}

const NO_NOTES: NoteRow[] = [];

interface CellProps {
  shot: number;
  name: string;
  /** The step, and its place among the steps; none for a source. */
  step: Step | undefined;
  position: number;
  item: Item | undefined;
  chosen: boolean;
  related: boolean;
  /** What people have to say about it. */
  notes: NoteRow[];
  writable: boolean;
  picked: boolean;
  onPick: (item: string) => void;
  onChoose: (item: string) => void;
  onMove: (item: string, to: number) => void;
  onRename: (item: string) => void;
  choices: (item: string) => Choice[];
}

/** Whether two descriptions of an item are drawn alike: the recipe that it was described by makes no difference. */
function alike(a: Item | undefined, b: Item | undefined): boolean {
  if (a === b || !a || !b) return a === b;
  return (
    a.digest !== "" &&
    a.digest === b.digest &&
    !a.problem &&
    !b.problem &&
    a.alpha === b.alpha &&
    a.plane === b.plane &&
    a.inputs.join() === b.inputs.join()
  );
}

/** A cell of a ribbon of hundreds is drawn again only where it differs. */
const Cell = memo(DrawnCell, (a, b) =>
  (Object.keys(b) as (keyof CellProps)[]).every((name) =>
    name === "item" ? alike(a.item, b.item) : a[name] === b[name],
  ),
);

function DrawnCell({
  shot,
  name,
  step,
  position,
  item,
  chosen,
  related: near,
  notes,
  writable,
  picked,
  onPick,
  onChoose,
  onMove,
  onRename,
  choices,
}: CellProps) {
  const off = step?.on === false;
  const box = useRef<HTMLDivElement>(null);
  // Of hundreds, those that nobody has come near cost next to nothing.
  const seen = useSeen(box);
  const planes = useSmallPlanes(shot, item, name, seen && !item?.problem);
  const edge = item?.problem
    ? "border-ember"
    : chosen
      ? "border-lichen shadow-[0_0_0_1px_var(--lichen)]"
      : near
        ? "border-lichen/50"
        : "border-line";
  const inputs = item?.inputs.join(", ");
  const told = step ? step.op + (inputs ? ` of ${inputs}` : "") : "source";
  return (
    <div
      ref={box}
      className={`relative w-28 shrink-0 ${off ? "opacity-50" : ""} ${picked ? "rounded-sm outline-1 outline-offset-4 outline-dashed outline-lichen" : ""}`}
      data-cell={name}
      onDragOver={(event) => step && event.dataTransfer.types.includes(MOVED) && event.preventDefault()}
      onDrop={(event) => {
        const moved = event.dataTransfer.getData(MOVED);
        if (moved && step && moved !== name) onMove(moved, position);
      }}
    >
      <button
        type="button"
        data-item={name}
        aria-current={chosen}
        title={`${name}, ${step?.op.replaceAll("_", " ") ?? "source"}${step?.note ? `: ${step.note}` : ""}\n← → go along; double click renames; Ctrl click takes several`}
        aria-label={[
          name,
          told,
          off && "off",
          picked && "taken with others",
          item?.problem && "with a fault",
          coverageWords(planes.data),
        ]
          .filter(Boolean)
          .join(", ")}
        draggable={writable && step !== undefined}
        onDragStart={(event) => event.dataTransfer.setData(MOVED, name)}
        onClick={(event) => {
          if (step && (event.ctrlKey || event.metaKey)) onPick(name);
          else onChoose(name);
        }}
        onKeyDown={(event) => {
          if (!step || event.key !== "Enter" || !(event.ctrlKey || event.metaKey)) return;
          event.preventDefault();
          onPick(name);
        }}
        onDoubleClick={() => writable && onRename(name)}
        className={`relative block h-[57px] w-28 overflow-hidden rounded-sm border bg-well ${edge}`}
      >
        {item?.problem ? (
          <span className="flex h-full items-center px-2 text-left text-[11px] leading-tight text-ember">
            {item.problem.message.slice(0, 60)}
          </span>
        ) : (
          <SmallPicture
            planes={planes.data}
            error={planes.error}
            label={name}
            className="h-full w-full !object-cover"
          />
        )}
      </button>
      {notes[0] && (
        <button
          type="button"
          aria-label={`Notes on ${name}: ${notes.length}`}
          title={notes.map((note) => `${note.author}: ${note.text}`.slice(0, 120)).join("\n")}
          onClick={() => useNoting.getState().change({ open: true, chosen: notes[0]!.id })}
          className="absolute left-1 top-1 h-[18px] w-4"
        >
          <Flag lit={false} />
        </button>
      )}
      {item && !item.problem && !item.plane && item.alpha !== "none" && (
        <span
          title={`Its colour is taken for ${item.alpha}`}
          className="pointer-events-none absolute right-px top-[42px] rounded-tl-sm bg-panel/85 px-1 text-[10px] leading-[14px] text-dim"
        >
          {item.alpha === "straight" ? "straight" : "premult"}
        </span>
      )}
      <div className="mt-1 flex items-baseline gap-1 font-narrow text-[12px]">
        <Cut text={name} className="text-text" />
        <span className="ml-auto min-w-0 shrink-[99] truncate text-[11px] text-faint">
          {off ? "off" : (step?.op.replaceAll("_", " ") ?? "source")}
        </span>
        {writable && seen && (
          <Menu choices={() => choices(name)}>
            <button
              type="button"
              aria-label={`More for ${name}`}
              className="-mr-1 shrink-0 self-center text-faint hover:text-text"
            >
              <EllipsisVertical size={13} />
            </button>
          </Menu>
        )}
      </div>
    </div>
  );
}
