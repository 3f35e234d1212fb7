import { useEffect, useRef } from "react";

import type { Stroke } from "@/benches/mattes/strokes";

import type { Placement } from "./geometry";

/** A stroke as it is being painted, drawn at once under the pointer until the computed picture takes its place. */
export function LiveStroke({ stroke, placement }: { stroke: Stroke; placement: Placement }) {
  const canvas = useRef<HTMLCanvasElement>(null);
  useEffect(() => {
    const target = canvas.current;
    const context = target?.getContext("2d");
    if (!target || !context) return;
    const ratio = window.devicePixelRatio;
    target.width = Math.round(placement.width * ratio);
    target.height = Math.round(placement.height * ratio);
    context.setTransform(ratio, 0, 0, ratio, 0, 0);
    const { zoom, left, top } = placement;
    const grey = Math.round(
      255 * Math.min(1, Math.max(0, typeof stroke.value === "number" ? stroke.value : 1)),
    );
    const radius = stroke.radius * zoom;
    const soft = radius * (1 - (stroke.hardness ?? 1));
    if (soft > 1) context.filter = `blur(${(soft / 3).toFixed(1)}px)`;
    context.strokeStyle = context.fillStyle = `rgb(${grey} ${grey} ${grey})`;
    context.lineCap = context.lineJoin = "round";
    stroke.points.forEach(([x, y, pressure = 1], index) => {
      const size = Math.max(0.5, (radius - soft / 2) * pressure);
      const [sx, sy] = [(x! - left) * zoom, (y! - top) * zoom];
      const [px, py] = stroke.points[Math.max(0, index - 1)]!;
      context.lineWidth = 2 * size;
      context.beginPath();
      context.moveTo((px! - left) * zoom, (py! - top) * zoom);
      context.lineTo(sx + 0.01, sy);
      context.stroke();
    });
  }, [stroke, placement]);
  return (
    <canvas
      ref={canvas}
      aria-hidden
      data-testid="live-stroke"
      className="pointer-events-none absolute inset-0 h-full w-full"
      style={{ opacity: stroke.opacity ?? 1 }}
    />
  );
}
