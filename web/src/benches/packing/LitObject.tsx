import { type KeyboardEvent, type PointerEvent, useEffect, useRef, useState } from "react";

import type { Item } from "@/api/client";
import type { Recipe } from "@/api/recipe";
import { Message } from "@/parts/Message";

import { LightDial } from "./LightDial";
import { baseFor } from "./packs";
import { Painted } from "./Painted";
import { Parting } from "./Parting";
import { usePackingView } from "./packingView";
import { type LitAsk, useLit } from "./useLit";

interface Props {
  shot: number;
  recipe: Recipe;
  items: Item[];
  pack: string;
}

const MOST = 960;
const DEGREES_PER_PIXEL = 0.5;

/** The texture on an object: dragging turns it, the dial moves its lights, and a line parts before from after. */
export function LitObject({ shot, recipe, items, pack }: Props) {
  const view = usePackingView();
  const box = useRef<HTMLDivElement>(null);
  const [side, setSide] = useState(0);
  const [dragging, setDragging] = useState(false);
  useEffect(() => {
    const observer = new ResizeObserver(([entry]) =>
      setSide(Math.floor(Math.min(entry!.contentRect.width, entry!.contentRect.height))),
    );
    if (box.current) observer.observe(box.current);
    return () => observer.disconnect();
  }, []);

  const full = Math.min(MOST, Math.max(64, side));
  const ask: LitAsk | null =
    side > 0
      ? {
          packed: pack,
          base: baseFor(recipe, items, view.base),
          normal: view.normal,
          object: view.shape,
          turn: view.turn,
          key: view.key,
          fill: view.fill,
          size: dragging ? Math.round(Math.min(640, full) / 2) : full,
        }
      : null;
  const now = useLit(shot, recipe, ask, "lit");
  const before = useLit(shot, view.before, ask, "lit-before");

  const from = useRef<{ x: number; y: number; turn: [number, number] } | null>(null);
  const down = (event: PointerEvent) => {
    event.currentTarget.setPointerCapture(event.pointerId);
    from.current = { x: event.clientX, y: event.clientY, turn: view.turn };
    setDragging(true);
  };
  const move = (event: PointerEvent) => {
    const start = from.current;
    if (!start) return;
    const yaw = start.turn[0] + (event.clientX - start.x) * DEGREES_PER_PIXEL;
    const pitch = start.turn[1] + (event.clientY - start.y) * DEGREES_PER_PIXEL;
    view.change({ turn: [wrapped(yaw), Math.min(89, Math.max(-89, pitch))] });
  };
  const up = () => {
    from.current = null;
    setDragging(false);
  };
  const keys = (event: KeyboardEvent) => {
    const turns: Record<string, [number, number]> = {
      ArrowLeft: [-5, 0],
      ArrowRight: [5, 0],
      ArrowUp: [0, -5],
      ArrowDown: [0, 5],
    };
    const by = turns[event.key];
    if (!by) return;
    event.preventDefault();
    event.stopPropagation();
    view.change({
      turn: [wrapped(view.turn[0] + by[0]), Math.min(89, Math.max(-89, view.turn[1] + by[1]))],
    });
  };

  return (
    <div ref={box} className="relative flex min-h-0 min-w-0 grow items-center justify-center bg-stage">
      <div className="relative" style={{ width: side, height: side }}>
        <div
          role="img"
          tabIndex={0}
          aria-label={`Lit object: ${view.shape} with ${pack}. Drag it or use the arrow keys to turn it`}
          data-turn={view.turn.map((angle) => angle.toFixed(1)).join(" ")}
          data-size={now.planes?.region[2] ?? 0}
          className="absolute inset-0 cursor-grab touch-none active:cursor-grabbing"
          onPointerDown={down}
          onPointerMove={move}
          onPointerUp={up}
          onPointerCancel={up}
          onDoubleClick={() => view.change({ turn: [0, 8] })}
          onKeyDown={keys}
        >
          <Painted planes={now.planes} name="lit" busy={now.busy} />
          {view.before && before.planes && (
            <div className="absolute inset-0" style={{ clipPath: `inset(0 ${(1 - view.split) * 100}% 0 0)` }}>
              <Painted planes={before.planes} name="lit-before" busy={before.busy} />
            </div>
          )}
        </div>
        {view.before && before.planes && (
          <Parting at={view.split} onMove={(split) => view.change({ split })} />
        )}
      </div>
      <span className="pointer-events-none absolute left-2 top-2 rounded-sm border border-line bg-panel/85 px-2 py-0.5 text-[12px]">
        lit object · {view.shape}
      </span>
      {view.before && (
        <span className="pointer-events-none absolute right-2 top-2 rounded-sm border border-line bg-panel/85 px-2 py-0.5 text-[12px] text-dim">
          before | now
        </span>
      )}
      {now.problem && now.problem.code !== "pending" && (
        <div className="absolute left-2 top-9 max-w-sm">
          <Message problem={now.problem} />
        </div>
      )}
      {now.problem?.code === "pending" && (
        <p role="status" className="absolute left-2 top-9 bg-panel/85 px-2 py-1 text-[12px] text-dim">
          Waiting for a step that is being computed
        </p>
      )}
      <LightDial
        lights={[
          { name: "Warm light", at: view.key, colour: "var(--warm)" },
          { name: "Cool light", at: view.fill, colour: "var(--cool)" },
        ]}
        onMove={(index, at, done) => {
          setDragging(!done);
          view.change(index === 0 ? { key: at } : { fill: at });
        }}
      />
    </div>
  );
}

function wrapped(angle: number): number {
  return ((((angle + 180) % 360) + 360) % 360) - 180;
}
