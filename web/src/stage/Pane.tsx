import { type RefObject, useLayoutEffect, useMemo, useRef } from "react";

import { Breathing } from "@/parts/Breathing";

import { coverageWords } from "./coverage";
import { boxOf, clipToSide, drawGrid, drawHatch, drawShown } from "./drawing";
import type { Placement } from "./geometry";
import { useNavigation } from "./navigation";
import { unlike } from "./painting";
import type { PaneContent } from "./usePane";
import { useView } from "./viewState";

type Drawn = Pick<PaneContent, "shown" | "over" | "kind">;

/** What of a pane is drawn; the same as long as it is, whatever is on its way. */
function useDrawn({ shown, over, kind }: PaneContent): Drawn {
  return useMemo(() => ({ shown, over, kind }), [shown, over, kind]);
}

interface Props {
  name: string;
  label: string;
  display: [number, number, number, number];
  placement: Placement;
  main: PaneContent;
  /** What it is compared with. */
  other?: PaneContent | null;
  /** How the other is seen: beyond the split line, in turns, or as the difference. */
  compare?: "split" | "blink" | "difference";
  onHover: (at: [number, number] | null) => void;
  canvasRef?: RefObject<HTMLCanvasElement | null>;
}

/** Milliseconds that each side of a blinking comparison stays. */
const BLINK = 480;

const reduced = () => window.matchMedia("(prefers-reduced-motion: reduce)").matches;

/** One view of a picture: wheel to zoom at the pointer, drag to pan, hatching that moves. */
export function Pane({
  name,
  label,
  display,
  placement,
  main,
  other,
  compare = "split",
  onHover,
  canvasRef,
}: Props) {
  const own = useRef<HTMLCanvasElement>(null);
  const canvas = canvasRef ?? own;
  const { split, pick, change, zoom } = useView();
  // Of a part that is looked at closely it would be said of the part.
  const covered = zoom === 0 && coverageWords(main.planes);

  const near = useDrawn(main);
  const beside = useDrawn(other ?? main);
  const far = other ? beside : null;
  useLayoutEffect(() => {
    const target = canvas.current;
    const context = target?.getContext("2d");
    if (!target || !context) return;
    const ratio = window.devicePixelRatio;
    let frame = 0;
    let timer = 0;
    const draw = (time: number, part?: [number, number, number, number]) => {
      const [across, down] = [Math.round(placement.width * ratio), Math.round(placement.height * ratio)];
      // To take another size costs a canvas, also where it is the same.
      if (target.width !== across || target.height !== down) [target.width, target.height] = [across, down];
      context.setTransform(ratio, 0, 0, ratio, 0, 0);
      context.save();
      if (part) {
        context.beginPath();
        context.rect(...part);
        context.clip();
      }
      context.clearRect(0, 0, placement.width, placement.height);
      const side = (drawn: Drawn) => {
        if (drawn.shown) drawShown(context, drawn.shown, placement);
        if (!drawn.over || !drawn.shown || drawn.over.planes === drawn.shown.planes) return;
        if (drawn.kind !== "hatch") drawShown(context, drawn.over, placement);
        else drawHatch(context, drawn.over, placement, unlike(drawn.shown.planes), reduced() ? 0 : time / 90);
      };
      if (far && compare === "blink") side(Math.floor(time / BLINK) % 2 ? far : near);
      else if (far && compare === "difference") {
        side(near);
        context.globalCompositeOperation = "difference";
        side(far);
        context.globalCompositeOperation = "source-over";
      } else if (far) {
        context.save();
        clipToSide(context, placement.width, placement.height, split, -1);
        side(near);
        context.restore();
        context.save();
        clipToSide(context, placement.width, placement.height, split, 1);
        side(far);
        context.restore();
      } else side(near);
      drawGrid(context, placement, display);
      context.restore();
      const moving = [near, far].some((drawn) => drawn?.over && drawn.kind === "hatch");
      const blinking = far && compare === "blink";
      if (blinking || (moving && !reduced()))
        timer = window.setTimeout(() => {
          frame = requestAnimationFrame(draw);
        }, 80);
    };
    // At once: it is seen with the next frame, and not with the one after that.
    draw(performance.now());
    // Whichever of the two is on its way: one frame left over would go on drawing what was for ever.
    const stop = () => {
      cancelAnimationFrame(frame);
      clearTimeout(timer);
    };
    const ends = [near, far].flatMap((drawn) =>
      [drawn?.shown, drawn?.over].map((picture) =>
        picture?.live?.watch((changed) => {
          stop();
          draw(performance.now(), boxOf(picture, changed, placement));
        }),
      ),
    );
    return () => {
      stop();
      for (const end of ends) end?.();
    };
  }, [canvas, placement, display, near, far, compare, split]);

  const navigation = useNavigation(canvas, placement);

  return (
    <div className="relative min-w-0 grow overflow-hidden bg-stage">
      <canvas
        ref={canvas}
        role="img"
        aria-label={[`Stage, ${label}`, covered].filter(Boolean).join(", ")}
        data-pane={name}
        data-strokes={main.shown?.live || main.over?.live ? "live" : undefined}
        className={`absolute inset-0 h-full w-full touch-none ${pick ? "cursor-crosshair" : "cursor-default"}`}
        onPointerDown={(event) => {
          if (event.button > 1) return;
          if (pick && event.button === 0) {
            const [x, y] = navigation.at(event);
            pick.take(Math.floor(x), Math.floor(y), { shift: event.shiftKey, alt: event.altKey });
            if (!pick.stays) change({ pick: null });
            return;
          }
          navigation.start(event);
        }}
        onPointerMove={(event) => {
          navigation.move(event);
          onHover(navigation.at(event));
        }}
        onPointerUp={navigation.stop}
        onPointerLeave={() => onHover(null)}
      />
      <span className="pointer-events-none absolute left-3 top-3 max-w-[70%] truncate rounded-sm border border-line bg-panel/85 px-2 py-0.5 text-[12px]">
        {label}
      </span>
      {main.late && (
        <span className="pointer-events-none absolute bottom-2 left-3 flex items-center gap-1.5 font-mono text-[11px] text-dim">
          <Breathing />
          computing
        </span>
      )}
    </div>
  );
}
