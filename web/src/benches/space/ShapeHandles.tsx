import { useRef } from "react";

import type { Step } from "@/api/recipe";
import { useDraft } from "@/shot/draft";
import type { Placement } from "@/stage/geometry";

import type { Spot } from "./camera";
import { type StageHandle, stageHandlesOf } from "./shape";

interface Props {
  step: Step | undefined;
  camera: number[];
  placement: Placement;
}

const STEPS: Record<string, Spot> = {
  ArrowLeft: [-1, 0],
  ArrowRight: [1, 0],
  ArrowUp: [0, -1],
  ArrowDown: [0, 1],
};

/** What of a shape of space can be taken hold of on the picture: its middle, its sizes, its turn. */
export function ShapeHandles({ step, camera, placement }: Props) {
  return stageHandlesOf(step, camera).map((handle) => (
    <Hold key={`${step!.name} ${handle.name}`} handle={handle} placement={placement} />
  ));
}

function Hold({ handle, placement }: { handle: StageHandle; placement: Placement }) {
  const edit = useDraft((state) => state.edit);
  /** What was taken hold of, as it was then, and where. */
  const held = useRef<{ handle: StageHandle; from: Spot; moved: boolean } | null>(null);
  const spot = (event: React.PointerEvent): Spot => [
    event.clientX / placement.zoom,
    event.clientY / placement.zoom,
  ];
  const move = (event: React.PointerEvent, done: boolean) => {
    const { handle: taken, from } = held.current!;
    const [to, aside] = [spot(event), event.shiftKey];
    edit((before) => taken.moved(before, from, to, aside), done);
  };
  const [right, down] = handle.aside ?? [0, 0];
  const left = (handle.at[0] - placement.left) * placement.zoom + right;
  const top = (handle.at[1] - placement.top) * placement.zoom + down;
  const turns = handle.name === "rotation";
  return (
    <button
      type="button"
      aria-label={`${handle.label} on the picture`}
      title={`${handle.label}: ${handle.title}`}
      data-hold={handle.name}
      className="absolute flex h-6 w-6 -translate-x-1/2 -translate-y-1/2 cursor-move touch-none items-center justify-center outline-none focus-visible:ring-1 focus-visible:ring-lichen"
      style={{ left, top }}
      onPointerDown={(event) => {
        // The stage below would move the picture.
        event.stopPropagation();
        event.currentTarget.setPointerCapture(event.pointerId);
        held.current = { handle, from: spot(event), moved: false };
      }}
      onPointerMove={(event) => {
        if (!held.current) return;
        const [from, now] = [held.current.from, spot(event)];
        held.current.moved ||= Math.hypot(now[0] - from[0], now[1] - from[1]) * placement.zoom > 1;
        if (held.current.moved) move(event, false);
      }}
      onPointerUp={(event) => {
        if (held.current?.moved) move(event, true);
        held.current = null;
      }}
      onKeyDown={(event) => {
        const step = STEPS[event.key];
        if (!step) return;
        event.preventDefault();
        event.stopPropagation();
        const far = event.shiftKey && !turns ? 10 : 1;
        const to: Spot = [step[0] * far, step[1] * far];
        edit((before) => handle.moved(before, [0, 0], to, event.shiftKey), true);
      }}
    >
      <span
        className={`border border-lichen bg-panel/80 ${turns ? "h-2.5 w-2.5 rotate-45" : handle.name.startsWith("size") ? "h-2 w-2" : "h-3 w-3 rounded-full"}`}
      />
    </button>
  );
}
