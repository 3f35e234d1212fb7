import type { PointerEvent } from "react";

/** The line between before and now. */
export function Parting({ at, onMove }: { at: number; onMove: (at: number) => void }) {
  const follow = (event: PointerEvent) => {
    const box = event.currentTarget.parentElement?.getBoundingClientRect();
    if (box && event.buttons === 1) onMove(Math.min(1, Math.max(0, (event.clientX - box.left) / box.width)));
  };
  return (
    <div
      role="slider"
      tabIndex={0}
      aria-label="Line between before and now"
      aria-valuenow={Math.round(at * 100)}
      aria-valuemin={0}
      aria-valuemax={100}
      className="absolute inset-y-0 w-3 -translate-x-1/2 cursor-ew-resize touch-none"
      style={{ left: `${at * 100}%` }}
      onPointerDown={(event) => event.currentTarget.setPointerCapture(event.pointerId)}
      onPointerMove={follow}
      onKeyDown={(event) => {
        const step = event.key === "ArrowLeft" ? -0.02 : event.key === "ArrowRight" ? 0.02 : 0;
        if (!step) return;
        event.preventDefault();
        event.stopPropagation();
        onMove(Math.min(1, Math.max(0, at + step)));
      }}
    >
      <span className="mx-auto block h-full w-px bg-lichen" />
    </div>
  );
}
