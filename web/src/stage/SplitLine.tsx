import { type PointerEvent, useRef } from "react";

import { useView } from "./viewState";

/** The line between the two sides of a split: dragged to move, turned by its round handle, moved by arrow keys. */
export function SplitLine({ width, height }: { width: number; height: number }) {
  const { split, change } = useView();
  const mode = useRef<"move" | "turn" | null>(null);
  const [cx, cy] = [split.x * width, split.y * height];
  const [ax, ay] = [Math.sin(split.angle), Math.cos(split.angle)];
  const far = width + height;
  const reach = Math.min(width, height) * 0.32;
  const start = (kind: "move" | "turn") => (event: PointerEvent<SVGElement>) => {
    mode.current = kind;
    event.currentTarget.setPointerCapture(event.pointerId);
    event.stopPropagation();
  };
  const follow = (event: PointerEvent<SVGElement>) => {
    if (!mode.current) return;
    const box = event.currentTarget.ownerSVGElement!.getBoundingClientRect();
    const [x, y] = [event.clientX - box.left, event.clientY - box.top];
    if (mode.current === "move") {
      const held = (value: number) => Math.min(0.98, Math.max(0.02, value));
      change({ split: { ...split, x: held(x / width), y: held(y / height) } });
    } else change({ split: { ...split, angle: Math.atan2(x - cx, y - cy) } });
  };
  const stop = () => (mode.current = null);
  const handlers = { onPointerMove: follow, onPointerUp: stop };
  return (
    <svg className="pointer-events-none absolute inset-0 h-full w-full" aria-hidden={false}>
      <line
        x1={cx - ax * far}
        y1={cy - ay * far}
        x2={cx + ax * far}
        y2={cy + ay * far}
        className="stroke-lichen"
        strokeWidth={1}
      />
      <line
        x1={cx - ax * far}
        y1={cy - ay * far}
        x2={cx + ax * far}
        y2={cy + ay * far}
        stroke="transparent"
        strokeWidth={13}
        className="pointer-events-auto cursor-move outline-none"
        role="slider"
        tabIndex={0}
        aria-label="Split position"
        aria-valuenow={Math.round(split.x * 100)}
        onPointerDown={start("move")}
        onKeyDown={(event) => {
          const step = event.key === "ArrowRight" ? 0.02 : event.key === "ArrowLeft" ? -0.02 : 0;
          if (!step) return;
          event.preventDefault();
          change({ split: { ...split, x: Math.min(0.98, Math.max(0.02, split.x + step)) } });
        }}
        {...handlers}
      />
      <circle
        cx={cx + ax * reach}
        cy={cy + ay * reach}
        r={6}
        className="pointer-events-auto cursor-grab fill-panel stroke-lichen"
        strokeWidth={1.5}
        onPointerDown={start("turn")}
        onDoubleClick={() => change({ split: { x: 0.5, y: 0.5, angle: 0 } })}
        {...handlers}
      >
        <title>Turn the split; double click puts it upright in the middle</title>
      </circle>
    </svg>
  );
}
