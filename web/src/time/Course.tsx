import { Copy, ClipboardPaste, Trash2 } from "lucide-react";
import { type KeyboardEvent, type PointerEvent, useRef } from "react";

import { Button } from "@/parts/Button";
import { useDraft } from "@/shot/draft";

import { editKeysAt, pasted, setWay } from "./editing";
import { type Key, type Place, WAYS, type Way, inOrder, shifted, takenAfter, valueAt, withKey } from "./keys";
import { goTo, useTime } from "./timeState";

interface Props {
  step: string;
  place: Place;
  label: string;
  keys: Key[];
  /** All frames that there are. */
  range: [number, number];
  /** What an arrow key changes a value by. */
  fine: number;
  writable: boolean;
}

const [WIDTH, HEIGHT, EDGE] = [284, 40, 6];

/** How a setting goes over time, with its keys to be dragged in time and value. */
export function Course({ step, place, label, keys, range, fine, writable }: Props) {
  const { frame, taken: all, copied, change } = useTime();
  const name = JSON.stringify([step, place]);
  const taken = all?.place === name ? all.frames : [];
  const plot = useRef<SVGSVGElement>(null);
  const drag = useRef<{ x: number; y: number; keys: Key[]; frames: number[]; moved: boolean } | null>(null);
  const [first, last] = range;
  const ordered = inOrder(keys);
  const numbers = ordered.flatMap((key) => flat(key[1]));
  const scalar = typeof ordered[0]?.[1] === "number";
  const [low, high] = [Math.min(...numbers), Math.max(...numbers)];
  const span = high - low || Math.max(Math.abs(high), fine * 10, 1e-6);
  const x = (at: number) => EDGE + ((at - first) / Math.max(1, last - first)) * (WIDTH - 2 * EDGE);
  const y = (value: number) =>
    high === low ? HEIGHT / 2 : HEIGHT - EDGE - ((value - low) / span) * (HEIGHT - 2 * EDGE);
  const put = (to: (keys: Key[]) => Key[], done = true) => editKeysAt(step, place, to, done);
  const take = (frames: number[]) => change({ taken: { place: name, frames } });

  const samples = Array.from({ length: 72 }, (_, index) => first + ((last - first) * index) / 71);
  const lines = flat(ordered[0]?.[1])
    .slice(0, 4)
    .map((_, part) =>
      samples.map((at) => `${x(at).toFixed(1)},${y(flat(valueAt(ordered, at))[part]!).toFixed(1)}`).join(" "),
    );

  const unit = () => (plot.current?.getBoundingClientRect().width ?? WIDTH) / WIDTH;
  const start = (event: PointerEvent, at: number) => {
    event.stopPropagation();
    event.currentTarget.setPointerCapture(event.pointerId);
    const frames = event.shiftKey
      ? taken.includes(at)
        ? taken.filter((other) => other !== at)
        : [...taken, at]
      : taken.includes(at)
        ? taken
        : [at];
    take(frames);
    drag.current = { x: event.clientX, y: event.clientY, keys, frames, moved: false };
  };
  const move = (event: PointerEvent) => {
    const from = drag.current;
    if (!from || !writable) return;
    const by = Math.round(((event.clientX - from.x) / unit() / (WIDTH - 2 * EDGE)) * (last - first));
    const up = ((from.y - event.clientY) / unit() / (HEIGHT - 2 * EDGE)) * span * (event.shiftKey ? 0.1 : 1);
    if (!from.moved && Math.hypot(event.clientX - from.x, event.clientY - from.y) < 3) return;
    from.moved = true;
    const steady = Math.abs(event.clientY - from.y) < 5 || !scalar;
    const raised = from.keys.map((key) =>
      from.frames.includes(key[0]) && !steady
        ? ([key[0], Number((Number(key[1]) + up).toPrecision(4)), ...key.slice(2)] as Key)
        : key,
    );
    const next = shifted(raised, from.frames, by);
    take(takenAfter(from.keys, from.frames, next));
    put(() => next, false);
  };
  const stop = (at: number) => {
    const from = drag.current;
    drag.current = null;
    if (from?.moved) useDraft.getState().settle();
    else goTo(at);
  };
  const press = (event: KeyboardEvent, at: number) => {
    const chosen = taken.includes(at) ? taken : [at];
    const by = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
    const up = { ArrowUp: 1, ArrowDown: -1 }[event.key];
    if (event.key === "Enter") goTo(at);
    else if (event.key === "Delete" && writable) put((own) => own.filter((key) => !chosen.includes(key[0])));
    else if (by && writable) {
      const next = shifted(keys, chosen, by);
      put(() => next);
      take(takenAfter(keys, chosen, next));
    } else if (up && scalar && writable)
      put((own) =>
        own.map((key) =>
          chosen.includes(key[0]) ? ([key[0], Number(key[1]) + up * fine, ...key.slice(2)] as Key) : key,
        ),
      );
    else return;
    event.preventDefault();
    event.stopPropagation();
  };
  const ways = new Set(ordered.filter((key) => taken.includes(key[0])).map((key) => key[2] ?? "linear"));

  return (
    <div className="mt-1" data-course={label}>
      <svg
        ref={plot}
        viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
        role="group"
        aria-label={`Course of ${label}, ${keys.length} ${keys.length === 1 ? "key" : "keys"}`}
        className="block w-full rounded-sm border border-line bg-well"
        onDoubleClick={(event) => {
          if (!writable) return;
          const at = (event.clientX - event.currentTarget.getBoundingClientRect().x) / unit();
          const there = Math.round(first + ((at - EDGE) / (WIDTH - 2 * EDGE)) * (last - first));
          put((own) =>
            own.some((key) => key[0] === there) ? own : withKey(own, there, valueAt(own, there)),
          );
        }}
      >
        <title>{`${label} over time: drag its keys, double click for another one`}</title>
        <line x1={x(frame)} x2={x(frame)} y1={0} y2={HEIGHT} stroke="var(--lichen)" strokeWidth={0.7} />
        {lines.map((points, part) => (
          <polyline
            key={part}
            points={points}
            fill="none"
            stroke="var(--dim)"
            strokeWidth={1}
            opacity={1 - part * 0.2}
          />
        ))}
        {ordered.map((key, index) => (
          <rect
            // Not by its frame: what is dragged would be another at each, and the pointer lost.
            key={index}
            role="button"
            tabIndex={0}
            aria-label={`Key of ${label} at frame ${key[0]}, ${key[2] ?? "linear"}`}
            aria-pressed={taken.includes(key[0])}
            x={x(key[0]) - 1.75}
            y={(scalar ? y(Number(key[1])) : HEIGHT / 2) - 7}
            width={3.5}
            height={14}
            rx={1}
            fill={taken.includes(key[0]) ? "var(--lichen)" : "var(--text)"}
            className="cursor-ew-resize outline-none focus-visible:stroke-lichen focus-visible:stroke-2"
            onPointerDown={(event) => start(event, key[0])}
            onPointerMove={move}
            onPointerUp={() => stop(key[0])}
            onDoubleClick={(event) => event.stopPropagation()}
            onKeyDown={(event) => press(event, key[0])}
          />
        ))}
      </svg>
      {writable && (taken.length > 0 || copied) && (
        <div className="mt-1 flex items-center gap-1">
          {taken.length > 0 &&
            WAYS.map((way) => (
              <Button
                key={way}
                lit={ways.size === 1 && ways.has(way)}
                title={TOLD[way]}
                onClick={() => put((own) => setWay(own, taken, way))}
              >
                {way}
              </Button>
            ))}
          <span className="grow" />
          {taken.length > 0 && (
            <Button
              quiet
              aria-label={`Copy ${taken.length} ${taken.length === 1 ? "key" : "keys"}`}
              onClick={() => change({ copied: ordered.filter((key) => taken.includes(key[0])) })}
            >
              <Copy size={12} />
            </Button>
          )}
          {copied && sameKind(copied[0]![1], ordered[0]?.[1]) && (
            <Button
              quiet
              aria-label={`Put the copied keys in at frame ${frame}`}
              onClick={() => put((own) => pasted(own, copied as Key[], frame))}
            >
              <ClipboardPaste size={12} />
            </Button>
          )}
          {taken.length > 0 && (
            <Button
              quiet
              aria-label={`Take ${taken.length} ${taken.length === 1 ? "key" : "keys"} away`}
              onClick={() => {
                put((own) => own.filter((key) => !taken.includes(key[0])));
                take([]);
              }}
            >
              <Trash2 size={12} />
            </Button>
          )}
        </div>
      )}
    </div>
  );
}

const TOLD: Record<Way, string> = {
  linear: "Evenly over to the next key",
  smooth: "Slowly away and slowly in to the next key",
  hold: "Stays until the next key",
};

const flat = (value: unknown): number[] =>
  Array.isArray(value) ? value.flatMap(flat) : typeof value === "number" ? [value] : [];
const sameKind = (a: unknown, b: unknown) => flat(a).length === flat(b).length;
