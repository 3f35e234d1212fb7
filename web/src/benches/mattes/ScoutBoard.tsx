import { useVirtualizer } from "@tanstack/react-virtual";
import { ChevronDown, ChevronRight } from "lucide-react";
import { useEffect, useMemo, useRef, useState } from "react";

import { type Item, problemOf } from "@/api/client";
import { type Recipe, type Step, insertSteps, itemOf } from "@/api/recipe";
import { Button } from "@/parts/Button";
import { Choose } from "@/parts/Choose";
import { Message } from "@/parts/Message";
import { Waiting } from "@/parts/Waiting";
import { useMarks, useMarksOf } from "@/shot/marks";
import { useTools } from "@/stage/tools";
import { useView } from "@/stage/viewState";

import { Swatch } from "@/parts/Swatch";

import { CandidateRow } from "./CandidateRow";
import { type Candidate, useScout } from "./useScout";

interface Props {
  shot: number;
  recipe: Recipe;
  /** The picture that is scouted. */
  picture: Item | undefined;
  writable: boolean;
  onTake: (steps: Step[]) => void;
}

const HEIGHT = 52;
const FIRST = 24;
const MORE = 72;

const ORDERS = {
  separation: (row: Candidate) => row.separation,
  "edge kept": (row: Candidate) => row.edge_kept,
  quiet: (row: Candidate) => -row.noise,
} as const;
type Order = keyof typeof ORDERS;

/** Marks ranked into candidates for a matte: hover previews one on the stage, a click or Enter takes it as steps. */
export function ScoutBoard({ shot, recipe, picture, writable, onTake }: Props) {
  const { tool, scouting: open, change } = useTools();
  const { marks: all, put, problem } = useMarks();
  const marks = useMarksOf(picture?.name ?? null);
  const preview = useView((state) => state.change);
  const [ink, setInk] = useState(false);
  const [rows, setRows] = useState(FIRST);
  const [order, setOrder] = useState<Order>("separation");
  const [at, setAt] = useState<number | null>(null);
  const scroller = useRef<HTMLDivElement>(null);
  const scouted = useScout(shot, recipe, picture, ink, rows);
  const count = (side: string) => marks.filter((mark) => mark.side === side).length;
  const enough = count("subject") > 0 && count("background") > 0;

  const list = useMemo(() => {
    const found = (scouted.data?.rows ?? []) as unknown as Candidate[];
    return order === "separation" ? found : [...found].sort((a, b) => ORDERS[order](b) - ORDERS[order](a));
  }, [scouted.data, order]);
  const virtual = useVirtualizer({
    count: enough ? list.length : 0,
    getScrollElement: () => scroller.current,
    estimateSize: () => HEIGHT,
    overscan: 2,
  });

  const drafted = (row: Candidate) => {
    if (!picture) return null;
    const [draft, name] = insertSteps(recipe, row.steps, itemOf(picture.name));
    return { recipe: draft, address: name, label: row.words };
  };
  const show = (index: number | null) => {
    setAt(index);
    const row = index === null ? undefined : list[index];
    preview({ preview: row ? drafted(row) : null });
  };
  const take = (index: number | null) => {
    const row = index === null ? undefined : list[index];
    if (!row || !writable) return;
    show(null);
    change({ tool: "none" });
    onTake(row.steps);
  };
  useEffect(() => {
    return () => {
      preview({ preview: null });
    };
  }, [preview]);

  const brush = (side: "subject" | "background", label: string) => (
    <Button
      lit={tool === side}
      disabled={!writable}
      onClick={() => change({ tool: tool === side ? "none" : side })}
    >
      <span
        aria-hidden
        className={`inline-block h-2 w-2 rounded-full border ${side === "subject" ? "border-text bg-text" : "border-text bg-transparent"}`}
      />
      {label} {count(side)}
    </Button>
  );
  return (
    <section aria-label="Scout" className="flex shrink-0 flex-col border-b border-line text-[12px]">
      <header className="flex items-baseline justify-between gap-2 px-3 pb-1.5 pt-2.5">
        <button
          className="flex items-center gap-1 text-[13px] font-semibold"
          aria-expanded={open}
          title={open ? "Close the scout; its marks are hidden" : "Open the scout, with its marks"}
          onClick={() => change({ scouting: !open, ...(open ? { tool: "none" } : {}) })}
        >
          {open ? <ChevronDown size={13} /> : <ChevronRight size={13} />} Scout
          {picture && <span className="font-normal text-dim">in {picture.name}</span>}
        </button>
        <span role="status" className="font-mono text-[11px] text-faint">
          {enough && scouted.data
            ? `${scouted.isFetching ? "ranking · " : ""}${scouted.data.tried} tried`
            : `${marks.length} ${marks.length === 1 ? "mark" : "marks"}`}
        </span>
      </header>
      {open && (
        <>
          <div className="flex items-center gap-1.5 px-3 pb-2">
            {brush("subject", "Subject")}
            {brush("background", "Background")}
            <Button
              quiet
              className="ml-auto px-1!"
              disabled={!writable || marks.length === 0}
              onClick={() => put(all.filter((mark) => !marks.includes(mark)))}
            >
              clear
            </Button>
          </div>
          {problem && (
            <div className="px-3 pb-2">
              <Message problem={problem} />
            </div>
          )}
          {!enough && (
            <p className="px-3 pb-3 leading-snug text-dim">
              Mark a few spots of what is to stay, then of what is behind it, straight on the picture. Alt +
              click takes a mark away; - and = change its size.
            </p>
          )}
          {enough && scouted.isError && (
            <div className="px-3 pb-2">
              <Message problem={problemOf(scouted.error)} />
            </div>
          )}
          {enough && scouted.data && scouted.data.unmarked.length > 0 && (
            <ul aria-label="Not marked yet" className="space-y-1 px-3 pb-2 leading-snug text-dim">
              {scouted.data.unmarked.map((place) => (
                <li key={`${place.x} ${place.y}`}>
                  Nothing is marked yet that looks like <Swatch values={place.colour} encoded bare />:{" "}
                  {Math.round(place.share * 100)} % of the picture, round {Math.round(place.x)},{" "}
                  {Math.round(place.y)}.
                </li>
              ))}
            </ul>
          )}
          {enough && (
            <div className="flex items-center justify-between gap-2 px-3 pb-2">
              <span className="text-dim">From these marks, in one step</span>
              <Button
                disabled={!writable || !scouted.data}
                title="The whole matte: colours of both sides, outline, fine edge; it takes a while"
                onClick={() => {
                  change({ tool: "none" });
                  if (scouted.data) onTake(scouted.data.whole as unknown as Step[]);
                }}
              >
                Whole matte
              </Button>
            </div>
          )}
          {enough && (
            <>
              <div className="flex items-center gap-2 px-3 pb-1 text-[11px] text-faint">
                <span>Best</span>
                <Choose
                  label="Order of the candidates"
                  value={order}
                  options={Object.keys(ORDERS)}
                  onChange={(next) => setOrder(next as Order)}
                  className="h-5! text-[11px]"
                />
                <span>first</span>
                <Button
                  quiet
                  lit={ink}
                  className="ml-auto h-5! px-1! text-[11px]"
                  onClick={() => setInk(!ink)}
                >
                  with ink
                </Button>
              </div>
              <div
                ref={scroller}
                tabIndex={0}
                role="listbox"
                aria-label="Candidates"
                aria-activedescendant={at === null ? undefined : `candidate-${at}`}
                className="h-[clamp(150px,26vh,520px)] shrink-0 overflow-y-auto outline-none focus-visible:ring-1 focus-visible:ring-inset focus-visible:ring-lichen"
                onPointerLeave={() => show(null)}
                onBlur={() => show(null)}
                onScroll={(event) => {
                  const box = event.currentTarget;
                  if (box.scrollTop + box.clientHeight > box.scrollHeight - 3 * HEIGHT) setRows(MORE);
                }}
                onKeyDown={(event) => {
                  const turn = event.key === "ArrowDown" ? 1 : event.key === "ArrowUp" ? -1 : 0;
                  if (turn && list.length) {
                    event.preventDefault();
                    event.stopPropagation();
                    const next = Math.min(list.length - 1, Math.max(0, (at ?? -1) + turn));
                    virtual.scrollToIndex(next);
                    show(next);
                  } else if (event.key === "Enter") {
                    event.preventDefault();
                    event.stopPropagation();
                    take(at ?? 0);
                  } else if (event.key === "Escape") show(null);
                }}
              >
                {list.length === 0 && scouted.isFetching && <Waiting text="Ranking" />}
                <div className="relative" style={{ height: virtual.getTotalSize() }}>
                  {virtual.getVirtualItems().map((entry) => {
                    const row = list[entry.index]!;
                    return (
                      <div
                        key={entry.key}
                        className="absolute inset-x-0"
                        style={{ top: entry.start, height: HEIGHT }}
                        onPointerMove={() => at !== entry.index && show(entry.index)}
                      >
                        <CandidateRow
                          id={`candidate-${entry.index}`}
                          shot={shot}
                          row={row}
                          draft={drafted(row)}
                          digest={picture?.digest ?? ""}
                          lit={at === entry.index}
                          onTake={() => take(entry.index)}
                        />
                      </div>
                    );
                  })}
                </div>
              </div>
            </>
          )}
        </>
      )}
    </section>
  );
}
