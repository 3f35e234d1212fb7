import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { type PointerEvent, useEffect, useMemo, useRef, useState } from "react";

import { type Item, api, got, problemOf } from "@/api/client";
import { type Recipe, type Step, drafted, itemOf } from "@/api/recipe";
import { useEvery } from "@/api/queries";
import { Breathing } from "@/parts/Breathing";
import { Button } from "@/parts/Button";
import { useDraft } from "@/shot/draft";
import { useHover } from "@/stage/hover";

import { type Axis, depthAt, ticksOf, xOf, zoomed } from "./scale";
import { seen } from "./camera";
import { type Handle, type Measure, depthOfPlace, linesOf } from "./shape";
import { type Located, handlesOf, strengthAt } from "./space";

interface Props {
  shot: number;
  recipe: Recipe;
  items: Item[];
  /** The step in focus, as it is at the frame. */
  step: Step | undefined;
  depth: string | undefined;
  /** What that depth measures, where it is known. */
  measure: Measure | null;
  /** What lies under the pointer on the stage. */
  plumb: Located | null;
  writable: boolean;
}

const HEIGHT = 132;
const [ROWS, COLUMNS] = [132, 640];
const FOLLOW_MS = 60;
const LILAC = [185, 163, 255];

/** The scene from the side or from above: depth to the right, with what can be moved along it. */
export function Elevation({ shot, recipe, items, step, depth, measure, plumb, writable }: Props) {
  const [side, setSide] = useState<"side" | "above">("side");
  const [inverse, setInverse] = useState(false);
  const [span, setSpan] = useState<[number, number] | null>(null);
  const [width, setWidth] = useState(0);
  const box = useRef<HTMLDivElement>(null);
  const at = useHover((state) => state.at);
  useEffect(() => {
    const observer = new ResizeObserver(([entry]) => setWidth(Math.floor(entry!.contentRect.width)));
    if (box.current) observer.observe(box.current);
    return () => observer.disconnect();
  }, []);
  // Another depth begins with all there is.
  useEffect(() => {
    setSpan(null);
  }, [depth]);

  const item = items.find((entry) => entry.name === itemOf(depth ?? ""));
  const asked = useEvery(span, FOLLOW_MS);
  const plot = useQuery({
    queryKey: ["elevation", shot, depth, item?.digest, drafted(recipe).frame, side, inverse, asked],
    queryFn: () =>
      got(
        api.POST("/api/shots/{shot_id}/elevation", {
          params: { path: { shot_id: shot } },
          body: {
            ...drafted(recipe),
            address: depth!,
            columns: COLUMNS,
            rows: ROWS,
            side,
            inverse,
            ...(asked ? { span: asked } : {}),
          },
        }),
      ),
    enabled: Boolean(depth) && Boolean(item?.digest) && !item?.problem,
    placeholderData: keepPreviousData,
    staleTime: Infinity,
    gcTime: 20_000,
    retry: false,
  });
  const shown = plot.data;
  const [low, high] = span ?? (shown ? [shown.all_low, shown.all_high] : [0, 1]);
  const axis: Axis = { low, high: high > low ? high : low + 1, inverse, width };
  const handles = handlesOf(step, measure);
  const strength = strengthAt(step);
  const curve = useMemo(() => {
    if (!strength || !width) return "";
    const points = Array.from({ length: 121 }, (_, index) => {
      const x = (index / 120) * width;
      return `${x.toFixed(1)},${(HEIGHT - 4 - strength(depthAt(axis, x)) * (HEIGHT - 24)).toFixed(1)}`;
    });
    return points.join(" ");
    // The axis stands for its numbers.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [step, low, high, inverse, width]);

  const size = item?.display ?? [0, 0, 1, 1];
  const across = side === "side" ? (at ? at[1] / size[3]! : null) : at ? at[0] / size[2]! : null;
  // A shape of space as it lies in the depth and in the picture's height or width.
  const shape = (measure ? linesOf(step, measure.camera, side) : []).map((line) =>
    line.flatMap((place) => {
      const [far, spot] = [depthOfPlace(measure!, place), seen(measure!.camera, place)];
      if (far === null || !spot) return [];
      const part = side === "side" ? spot[1] / size[3]! : spot[0] / size[2]!;
      return [`${xOf(axis, far).toFixed(1)},${(part * HEIGHT).toFixed(1)}`];
    }),
  );
  const turn = (event: React.WheelEvent) => {
    if (!shown) return;
    const x = event.clientX - box.current!.getBoundingClientRect().x;
    setSpan(zoomed(axis, depthAt(axis, x), Math.exp(event.deltaY * 0.0016), [shown.all_low, shown.all_high]));
  };
  return (
    <section
      aria-label="Elevation"
      className="flex h-[184px] shrink-0 flex-col border-t border-line bg-panel text-[12px]"
    >
      <header className="flex h-7 shrink-0 items-center gap-2 px-3">
        <h2 className="text-[13px] font-semibold">Elevation</h2>
        <span
          className="min-w-0 grow truncate font-mono text-[11px] text-dim"
          data-testid="plumb"
          title={plumb ? told(plumb) : ""}
        >
          {plumb ? told(plumb) : (depth ?? "")}
        </span>
        {plot.isFetching && <Breathing />}
        <Button lit={side === "side"} onClick={() => setSide("side")}>
          from the side
        </Button>
        <Button lit={side === "above"} onClick={() => setSide("above")}>
          from above
        </Button>
        <Button
          lit={inverse}
          title="Even in 1 / depth: what is near takes more room"
          onClick={() => setInverse(!inverse)}
        >
          near wide
        </Button>
        <Button disabled={!span} title="All of the depth there is" onClick={() => setSpan(null)}>
          all
        </Button>
      </header>
      <div
        ref={box}
        className="relative mx-3 grow overflow-hidden bg-well"
        title="Turn the wheel to zoom"
        onWheel={turn}
        onDoubleClick={() => setSpan(null)}
      >
        {!depth && (
          <p className="p-3 text-dim">
            No depth here: choose something that was made from a render with depth.
          </p>
        )}
        {plot.error && <p className="p-3 text-clay">{problemOf(plot.error).message}</p>}
        {shown && <Density plot={shown} axis={axis} />}
        {width > 0 && depth && (
          <svg width={width} height={HEIGHT} className="absolute inset-0" aria-hidden>
            {curve && (
              <polyline points={curve} fill="none" stroke="var(--text)" strokeWidth={1} opacity={0.75} />
            )}
            {shape.map((line, index) => (
              <polyline
                key={index}
                data-testid="shape"
                points={line.join(" ")}
                fill="none"
                stroke="var(--lichen)"
                strokeDasharray="5 3"
              />
            ))}
            {plumb?.depth != null && (
              <g stroke="var(--clay)" strokeWidth={1}>
                <line
                  x1={xOf(axis, plumb.depth)}
                  x2={xOf(axis, plumb.depth)}
                  y1={0}
                  y2={HEIGHT}
                  opacity={0.7}
                />
                {across !== null && (
                  <circle
                    cx={xOf(axis, plumb.depth)}
                    cy={across * HEIGHT}
                    r={3.5}
                    fill="none"
                    strokeWidth={1.5}
                  />
                )}
              </g>
            )}
            {ticksOf(axis).map((tick) => (
              <g key={tick}>
                <line
                  x1={xOf(axis, tick)}
                  x2={xOf(axis, tick)}
                  y1={HEIGHT - 4}
                  y2={HEIGHT}
                  stroke="var(--faint)"
                />
              </g>
            ))}
          </svg>
        )}
        {width > 0 &&
          handles.map((handle) => (
            <Grip key={handle.name} handle={handle} axis={axis} box={box} writable={writable} />
          ))}
      </div>
      <div className="relative mx-3 h-5 shrink-0 font-mono text-[11px] text-faint" aria-hidden>
        {width > 0 &&
          depth &&
          ticksOf(axis).map((tick) => (
            <span key={tick} className="absolute top-0.5 -translate-x-1/2" style={{ left: xOf(axis, tick) }}>
              {tick}
            </span>
          ))}
      </div>
    </section>
  );
}

/** What lies under the pointer, in words. */
function told({ depth, position, ids }: Located): string {
  const number = (value: number) => Number(value.toPrecision(4));
  return [
    depth === null ? "nothing there" : `depth ${number(depth)}`,
    position ? `at ${position.map(number).join("  ")}` : "",
    ids
      .map((id) => `${id.name || id.id}${id.coverage < 0.999 ? ` ${Math.round(id.coverage * 100)} %` : ""}`)
      .join(", "),
  ]
    .filter(Boolean)
    .join("   ·   ");
}

interface Plot {
  columns: number;
  rows: number;
  low: number;
  high: number;
  density: string;
}

/** The density of what is seen; while it is zoomed, the last answer is stretched to where it belongs. */
function Density({ plot, axis }: { plot: Plot; axis: Axis }) {
  const canvas = useRef<HTMLCanvasElement>(null);
  useEffect(() => {
    const context = canvas.current?.getContext("2d");
    if (!context) return;
    const bytes = Uint8Array.from(atob(plot.density), (letter) => letter.charCodeAt(0));
    const image = context.createImageData(plot.columns, plot.rows);
    bytes.forEach((value, index) => {
      image.data.set([...LILAC, value], index * 4);
    });
    context.putImageData(image, 0, 0);
  }, [plot]);
  const [from, to] = [xOf(axis, plot.low), xOf(axis, plot.high)];
  return (
    <canvas
      ref={canvas}
      width={plot.columns}
      height={plot.rows}
      data-testid="density"
      className="absolute top-0"
      style={{ left: from, width: Math.max(1, to - from), height: HEIGHT }}
    />
  );
}

interface GripProps {
  handle: Handle;
  axis: Axis;
  box: React.RefObject<HTMLDivElement | null>;
  writable: boolean;
}

/** A setting that lies along the depth, to be dragged or moved by arrows. */
function Grip({ handle, axis, box, writable }: GripProps) {
  const edit = useDraft((state) => state.edit);
  /** Where it was taken, and whether it has moved since: a click alone changes nothing. */
  const held = useRef<{ x: number; moved: boolean } | null>(null);
  const x = xOf(axis, handle.at);
  const outside = x < 0 || x > axis.width;
  const move = (event: PointerEvent, done: boolean) => {
    const left = box.current!.getBoundingClientRect().x;
    const to = depthAt(axis, Math.min(axis.width, Math.max(0, event.clientX - left)));
    edit((before) => handle.moved(before, to), done);
  };
  const tint = handle.soft ? "bg-lichen/50" : "bg-lichen";
  return (
    <div
      role="slider"
      tabIndex={writable ? 0 : -1}
      aria-label={handle.label}
      aria-valuenow={handle.at}
      aria-valuetext={`${handle.label} ${Number(handle.at.toPrecision(4))}`}
      aria-disabled={!writable}
      title={`${handle.label}: ${Number(handle.at.toPrecision(4))}${outside ? " (outside of what is shown)" : ""}`}
      className={`absolute inset-y-0 w-3 -translate-x-1/2 touch-none outline-none focus-visible:bg-lichen/15 ${writable ? "cursor-ew-resize" : ""}`}
      style={{ left: Math.min(axis.width, Math.max(0, x)) }}
      onPointerDown={(event) => {
        if (!writable) return;
        event.currentTarget.setPointerCapture(event.pointerId);
        held.current = { x: event.clientX, moved: false };
      }}
      onPointerMove={(event) => {
        const taken = held.current;
        if (!taken) return;
        taken.moved ||= Math.abs(event.clientX - taken.x) > 1;
        if (taken.moved) move(event, false);
      }}
      onPointerUp={(event) => {
        if (held.current?.moved) move(event, true);
        held.current = null;
      }}
      onDoubleClick={(event) => event.stopPropagation()}
      onKeyDown={(event) => {
        const by = { ArrowLeft: -1, ArrowRight: 1, PageDown: -10, PageUp: 10 }[event.key];
        if (!by || !writable) return;
        event.preventDefault();
        event.stopPropagation();
        const to = depthAt(axis, x + by);
        edit((before) => handle.moved(before, to), true);
      }}
    >
      <span className={`absolute inset-y-0 left-1/2 w-px ${tint} ${outside ? "opacity-40" : ""}`} />
      {!handle.soft && (
        <span
          className={`pointer-events-none absolute top-0.5 whitespace-nowrap rounded-[2px] bg-panel/85 px-1 text-[11px] text-lichen ${x < 44 ? "left-1/2" : x > axis.width - 44 ? "right-1/2" : "left-1/2 -translate-x-1/2"}`}
        >
          {handle.label}
        </span>
      )}
    </div>
  );
}
