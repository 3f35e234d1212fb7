import { type PointerEvent, type RefObject, useEffect, useRef } from "react";

import { clipToSide, drawGrid, drawHatch, drawShown } from "./drawing";
import { type Placement, position, zoomAt } from "./geometry";
import { unlike } from "./painting";
import type { usePane } from "./usePane";
import { useView } from "./viewState";

type Drawn = ReturnType<typeof usePane>;

interface Props {
  name: string;
  label: string;
  display: [number, number, number, number];
  placement: Placement;
  main: Drawn;
  /** The other side of a split. */
  other?: Drawn | null;
  onHover: (at: [number, number] | null) => void;
  canvasRef?: RefObject<HTMLCanvasElement | null>;
}

const reduced = () => window.matchMedia("(prefers-reduced-motion: reduce)").matches;

/** One view of a picture: wheel to zoom at the pointer, drag to pan, hatching that moves. */
export function Pane({ name, label, display, placement, main, other, onHover, canvasRef }: Props) {
  const own = useRef<HTMLCanvasElement>(null);
  const canvas = canvasRef ?? own;
  const { split, pick, change } = useView();
  const drag = useRef<{ x: number; y: number; centre: [number, number] } | null>(null);

  useEffect(() => {
    const target = canvas.current;
    const context = target?.getContext("2d");
    if (!target || !context) return;
    const ratio = window.devicePixelRatio;
    let frame = 0;
    const draw = (time: number) => {
      target.width = Math.round(placement.width * ratio);
      target.height = Math.round(placement.height * ratio);
      context.setTransform(ratio, 0, 0, ratio, 0, 0);
      const side = (drawn: Drawn) => {
        if (drawn.shown) drawShown(context, drawn.shown, placement);
        if (!drawn.over || !drawn.shown) return;
        if (drawn.over.planes === drawn.shown.planes || !drawn.planes) return;
        if (drawn.kind === "contour") drawShown(context, drawn.over, placement);
        else drawHatch(context, drawn.over, placement, unlike(drawn.shown.planes), reduced() ? 0 : time / 90);
      };
      if (other) {
        context.save();
        clipToSide(context, placement.width, placement.height, split, -1);
        side(main);
        context.restore();
        context.save();
        clipToSide(context, placement.width, placement.height, split, 1);
        side(other);
        context.restore();
      } else side(main);
      drawGrid(context, placement, display);
      const moving = [main, other].some((drawn) => drawn?.over && drawn.kind === "hatch");
      if (moving && !reduced()) frame = window.setTimeout(() => requestAnimationFrame(draw), 80);
    };
    const first = requestAnimationFrame(draw);
    return () => {
      cancelAnimationFrame(first);
      clearTimeout(frame);
    };
  }, [canvas, placement, display, main, other, split]);

  useEffect(() => {
    const target = canvas.current;
    const turn = (event: WheelEvent) => {
      event.preventDefault();
      const box = target!.getBoundingClientRect();
      const factor = Math.exp(-event.deltaY * (event.ctrlKey ? 0.01 : 0.0016));
      change(zoomAt(placement, event.clientX - box.left, event.clientY - box.top, factor));
    };
    target?.addEventListener("wheel", turn, { passive: false });
    return () => target?.removeEventListener("wheel", turn);
  }, [canvas, placement, change]);

  const at = (event: PointerEvent) => {
    const box = event.currentTarget.getBoundingClientRect();
    return position(placement, event.clientX - box.left, event.clientY - box.top);
  };

  return (
    <div className="relative min-w-0 grow overflow-hidden bg-stage">
      <canvas
        ref={canvas}
        role="img"
        aria-label={`Stage, ${label}`}
        data-pane={name}
        className={`absolute inset-0 h-full w-full touch-none ${pick ? "cursor-crosshair" : "cursor-default"}`}
        onPointerDown={(event) => {
          if (event.button > 1) return;
          const [x, y] = at(event);
          if (pick && event.button === 0) {
            pick.take(Math.floor(x), Math.floor(y));
            change({ pick: null });
            return;
          }
          event.currentTarget.setPointerCapture(event.pointerId);
          drag.current = {
            x: event.clientX,
            y: event.clientY,
            centre: [
              placement.left + placement.width / 2 / placement.zoom,
              placement.top + placement.height / 2 / placement.zoom,
            ],
          };
        }}
        onPointerMove={(event) => {
          const from = drag.current;
          if (from) {
            const [dx, dy] = [event.clientX - from.x, event.clientY - from.y];
            if (Math.hypot(dx, dy) > 2)
              change({
                zoom: placement.zoom,
                centre: [from.centre[0] - dx / placement.zoom, from.centre[1] - dy / placement.zoom],
              });
          }
          onHover(at(event));
        }}
        onPointerUp={() => (drag.current = null)}
        onPointerLeave={() => onHover(null)}
      />
      <span className="pointer-events-none absolute left-3 top-3 max-w-[70%] truncate rounded-sm border border-line bg-panel/85 px-2 py-0.5 text-[12px]">
        {label}
      </span>
      {main.busy && (
        <span className="pointer-events-none absolute bottom-2 left-3 animate-[breathe_1.2s_ease-in-out_infinite] font-mono text-[11px] text-dim">
          computing
        </span>
      )}
    </div>
  );
}
