import { Pause, Play, Repeat, UnfoldHorizontal } from "lucide-react";
import { type PointerEvent, useEffect, useRef, useState } from "react";

import { type Step, findStep } from "@/api/recipe";
import { Button } from "@/parts/Button";
import { Choose } from "@/parts/Choose";
import { NumberBox } from "@/parts/NumberBox";
import { Tip } from "@/parts/Tip";
import { useDraft } from "@/shot/draft";

import { moveKeysOf, removeKeysOf } from "./editing";
import { movingIn } from "./keys";
import { type Bar, type Range, ticks } from "./range";
import { RATES, goTo, playOrStop, useTime } from "./timeState";

interface Props {
  whole: Range;
  bars: Bar[];
  item: string | null;
  writable: boolean;
  /** A person set the range; else it is that of the sources. */
  own: boolean;
  /** Set the range, or let it follow the sources again. */
  onRange: (range: Range | null) => void;
}

const HEIGHT = 28;

/** The frames that are taken, once those that are held have moved. */
const moved = (taken: number[], held: number[], by: number) =>
  taken.map((frame) => (held.includes(frame) ? frame + by : frame));

/** Time under the stage: a ruler with the sources, the keys of the chosen step, what can be played, and the playhead. */
export function Timeline({ whole, bars, item, writable, own, onRange }: Props) {
  const { frame, playhead, range, rate, loop, reached, ready, taken: all, change } = useTime();
  const step = useDraft((state) => (item ? findStep(state.recipe, item) : undefined));
  const ruler = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(0);
  useEffect(() => {
    const observer = new ResizeObserver(([entry]) => setWidth(Math.floor(entry!.contentRect.width)));
    if (ruler.current) observer.observe(ruler.current);
    return () => observer.disconnect();
  }, []);
  const now = playhead ?? frame;
  const count = whole[1] - whole[0] + 1;
  const x = (at: number) => ((at - whole[0] + 0.5) / count) * width;
  const drag = useRef<{
    from: number;
    ranging: boolean;
    key: number | null;
    /** Frames that it has been moved by, forth and back. */
    by: number;
    /** The frames whose keys are dragged. */
    held: number[];
  } | null>(null);
  const place = JSON.stringify([item]);
  const taken = all?.place === place ? all.frames : [];
  const take = (frames: number[]) => change({ taken: frames.length ? { place, frames } : null });
  const at = (event: PointerEvent) => {
    const left = ruler.current!.getBoundingClientRect().x;
    const found = Math.floor(((event.clientX - left) / Math.max(1, width)) * count) + whole[0];
    return Math.min(whole[1], Math.max(whole[0], found));
  };
  const moveTaken = (own: NonNullable<typeof drag.current>, event: PointerEvent) => {
    const by = at(event) - own.key!;
    if (!by || !writable || !moveKeysOf(step!.name, own.held, by, false)) return;
    own.by += Math.abs(by);
    own.key! += by;
    take(moved(taken, own.held, by));
    own.held = own.held.map((frame) => frame + by);
  };
  const frames = [...new Set(movingIn(step).flatMap(({ keys }) => keys.map((key) => key[0])))];
  const surety = suretyOf(step);
  /** Where the key in focus has gone. */
  const following = useRef<number | null>(null);
  useEffect(() => {
    if (following.current === null) return;
    ruler.current?.querySelector<HTMLElement>(`[data-key="${following.current}"]`)?.focus();
    following.current = null;
  });

  return (
    <section
      aria-label="Timeline"
      data-frame={now}
      className="flex h-7 shrink-0 items-center gap-1.5 border-t border-line bg-panel pl-3 pr-2 text-[12px]"
    >
      <NumberBox
        label="Frame"
        value={now}
        step={1}
        places={0}
        onChange={(next) => goTo(Math.min(whole[1], Math.max(whole[0], Math.round(next))))}
      />
      <Button
        quiet
        className="px-1!"
        lit={playhead !== null}
        aria-label={playhead === null ? "Play" : "Stop"}
        title={playhead === null ? "Play (G)" : "Stop (G)"}
        onClick={playOrStop}
      >
        {playhead === null ? <Play size={12} /> : <Pause size={12} />}
      </Button>
      <Button
        quiet
        className={`px-1! ${loop ? "text-lichen!" : ""}`}
        lit={loop}
        aria-label="Loop"
        title="Begin again at the end"
        onClick={() => change({ loop: !loop })}
      >
        <Repeat size={12} />
      </Button>
      <div
        ref={ruler}
        role="slider"
        tabIndex={0}
        aria-label="Playhead"
        aria-valuemin={whole[0]}
        aria-valuemax={whole[1]}
        aria-valuenow={now}
        title="Drag to go through time; Shift + drag sets the range that is played and delivered"
        className="relative h-full min-w-0 grow cursor-col-resize touch-none outline-none focus-visible:ring-1 focus-visible:ring-lichen"
        onKeyDown={(event) => {
          const by = { ArrowLeft: -1, ArrowRight: 1, PageDown: 10, PageUp: -10 }[event.key];
          const to = event.key === "Home" ? whole[0] : event.key === "End" ? whole[1] : by ? now + by : null;
          if (to === null) return;
          event.preventDefault();
          goTo(Math.min(whole[1], Math.max(whole[0], to)));
        }}
        onPointerDown={(event) => {
          event.currentTarget.setPointerCapture(event.pointerId);
          const from = at(event);
          drag.current = { from, ranging: event.shiftKey && writable, key: null, by: 0, held: [] };
          if (!event.shiftKey) goTo(from);
        }}
        onPointerMove={(event) => {
          const held = drag.current;
          if (!held) return;
          if (held.key !== null) return moveTaken(held, event);
          const to = at(event);
          if (held.ranging) change({ range: [Math.min(held.from, to), Math.max(held.from, to)] });
          else if (to !== useTime.getState().frame) goTo(to);
        }}
        onPointerUp={(event) => {
          const held = drag.current;
          drag.current = null;
          if (held?.ranging) onRange(useTime.getState().range);
          else if (held?.by) useDraft.getState().settle();
          else if (held && held.key !== null && !event.shiftKey) {
            take([]);
            goTo(held.key);
          }
        }}
      >
        <svg width={width} height={HEIGHT} className="block" aria-hidden>
          <rect
            x={x(range[0] - 0.5)}
            width={Math.max(0, x(range[1] + 0.5) - x(range[0] - 0.5))}
            height={HEIGHT}
            fill="var(--raised)"
          />
          {ticks(whole, width).map((tick) => (
            <g key={tick.frame} className="pointer-events-none">
              <line
                x1={x(tick.frame)}
                x2={x(tick.frame)}
                y1={0}
                y2={tick.label ? 5 : 3}
                stroke="var(--faint)"
                strokeWidth={0.7}
              />
              {tick.label && (
                <text x={x(tick.frame) + 3} y={9} fontSize={9} fill="var(--faint)" className="font-mono">
                  {tick.frame}
                </text>
              )}
            </g>
          ))}
          {bars.slice(0, 3).map((bar, row) => (
            <g key={bar.name} transform={`translate(0 ${25 - row * 3})`}>
              <title>{`${bar.name}: frames ${bar.range[0]} to ${bar.range[1]}`}</title>
              <rect
                x={x(bar.range[0] - 0.5)}
                width={Math.max(1, x(bar.range[1] + 0.5) - x(bar.range[0] - 0.5))}
                height={1.5}
                fill="var(--dim)"
              />
              {bar.gaps.map((gap) => (
                <rect
                  key={gap[0]}
                  x={x(gap[0] - 0.5)}
                  width={Math.max(2, x(gap[1] + 0.5) - x(gap[0] - 0.5))}
                  height={1.5}
                  fill="var(--ember)"
                />
              ))}
            </g>
          ))}
          {surety.map(([of, sure]) => (
            <rect
              key={of}
              x={x(of - 0.5)}
              width={Math.max(1, x(of + 0.5) - x(of - 0.5))}
              y={22 - sure * 8}
              height={sure * 8}
              fill="var(--lilac)"
              opacity={0.4}
            />
          ))}
          {runsOf(ready).map(([from, to]) => (
            <rect
              key={from}
              x={x(from - 0.5)}
              width={Math.max(1, x(to + 0.5) - x(from - 0.5))}
              y={HEIGHT - 1}
              height={1}
              fill="var(--lichen)"
            />
          ))}
          <line x1={x(now)} x2={x(now)} y1={0} y2={HEIGHT} stroke="var(--lichen)" strokeWidth={1.5} />
        </svg>
        {frames.map((key) => (
          <button
            key={key}
            type="button"
            aria-label={`Keys of ${step!.name} at frame ${key}`}
            aria-pressed={taken.includes(key)}
            data-key={key}
            title={`Keys of ${step!.name} at frame ${key}: drag them, or ← →; Shift takes several; Delete takes them away`}
            className={`absolute top-[10px] h-[11px] w-[5px] -translate-x-1/2 cursor-ew-resize rounded-[1px] hover:bg-lichen focus-visible:bg-lichen ${taken.includes(key) ? "bg-lichen" : "bg-text"}`}
            style={{ left: x(key) }}
            onKeyDown={(event) => {
              const by = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
              const away = event.key === "Delete" || event.key === "Backspace";
              if ((!by && !away) || !writable) return;
              event.preventDefault();
              event.stopPropagation();
              const held = taken.includes(key) ? taken : [key];
              if (away) removeKeysOf(step!.name, held);
              else if (by && moveKeysOf(step!.name, held, by, true)) {
                take(moved(taken, held, by));
                following.current = key + by;
              }
            }}
            onPointerDown={(event) => {
              event.stopPropagation();
              // The key of another frame is another button: what is held has to outlast it.
              ruler.current?.setPointerCapture(event.pointerId);
              const others = taken.filter((other) => other !== key);
              const held = event.shiftKey || taken.includes(key) ? [...others, key] : [key];
              drag.current = { from: key, ranging: false, key, by: 0, held };
              if (!event.shiftKey) return;
              take(taken.includes(key) ? others : held);
            }}
          />
        ))}
      </div>
      {reached !== null && (
        <span
          role="status"
          className="shrink-0 font-mono text-[11px] text-clay"
          title="Frames come slower than they are to be shown; none is left out"
        >
          {reached} of {rate}/s
        </span>
      )}
      <span
        className="flex shrink-0 items-center text-dim"
        title={
          own
            ? "The frames that are played and delivered, as they were set"
            : "The frames that are played and delivered: all of the moving sources"
        }
      >
        <NumberBox
          label="First frame"
          value={range[0]}
          step={1}
          places={0}

          onChange={(next, done) =>
            done && writable && onRange([Math.round(next), Math.max(Math.round(next), range[1])])
          }
        />
        –
        <NumberBox
          label="Last frame"
          value={range[1]}
          step={1}
          places={0}

          onChange={(next, done) =>
            done && writable && onRange([Math.min(Math.round(next), range[0]), Math.round(next)])
          }
        />
        {own && writable && bars.length > 0 && (
          <Tip text="Follow the sources: all of their frames">
            <Button quiet aria-label="Follow the sources" className="px-1!" onClick={() => onRange(null)}>
              <UnfoldHorizontal size={13} />
            </Button>
          </Tip>
        )}
      </span>
      <Choose
        label="Frames a second"
        value={String(rate)}
        options={[...new Set([...RATES, rate])].map((each) => ({ value: String(each), label: `${each} /s` }))}
        onChange={(next) => change({ rate: Number(next) })}
        className="font-mono"
      />
    </section>
  );
}

/** How sure following was of each frame, of the step's curves and of itself. */
function suretyOf(step: Step | undefined): [number, number][] {
  const set = (step?.set ?? {}) as { movement?: Followed; paths?: { movement?: Followed }[] };
  const sure = set.movement?.sure ?? set.paths?.find((path) => path.movement?.sure)?.movement?.sure ?? {};
  return Object.entries(sure).map(([frame, value]) => [Number(frame), value]);
}

interface Followed {
  sure?: Record<string, number>;
}

/** Frames as ranges of those that follow each other. */
function runsOf(frames: ReadonlySet<number>): Range[] {
  const runs: Range[] = [];
  for (const frame of [...frames].sort((a, b) => a - b)) {
    const last = runs.at(-1);
    if (last && last[1] === frame - 1) last[1] = frame;
    else runs.push([frame, frame]);
  }
  return runs;
}
