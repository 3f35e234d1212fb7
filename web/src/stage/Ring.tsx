import { useEffect, useRef, useState } from "react";

import { type Brush, useTools } from "./tools";

interface Props {
  width: number;
  height: number;
  /** Where the pointer is; the middle of the stage where it is elsewhere. */
  start: [number, number] | null;
}

const REACH = 74;
const PARTS: { key: "radius" | "hardness" | "opacity" | "value"; label: string; x: number; y: number }[] = [
  { key: "radius", label: "radius", x: 1, y: 0 },
  { key: "opacity", label: "opacity", x: 0, y: 1 },
  { key: "hardness", label: "hardness", x: -1, y: 0 },
  { key: "value", label: "value", x: 0, y: -1 },
];

function shown(brush: Brush, key: (typeof PARTS)[number]["key"]): string {
  return key === "radius" ? `${brush.radius.toFixed(1)} px` : brush[key].toFixed(2);
}

/**
 * The settings of the brush round the pointer, for as long as T is held: the pointer is moved towards a setting,
 * the wheel changes it; a click switches the value between 0 and 1.
 */
export function Ring({ width, height, start }: Props) {
  const { brush, paint } = useTools();
  const [middle] = useState<[number, number]>(() => {
    const held = (value: number, size: number) => Math.min(size - REACH - 40, Math.max(REACH + 40, value));
    return [held(start?.[0] ?? width / 2, width), held(start?.[1] ?? height / 2, height)];
  });
  const box = useRef<SVGSVGElement>(null);
  const [x, y] = start ? [start[0] - middle[0], start[1] - middle[1]] : [0, 0];
  const chosen =
    Math.hypot(x, y) < 14 ? null : PARTS.reduce((a, b) => (a.x * x + a.y * y >= b.x * x + b.y * y ? a : b));
  const key = chosen?.key ?? null;

  useEffect(() => {
    const target = box.current?.parentElement;
    const turn = (event: WheelEvent) => {
      event.preventDefault();
      event.stopImmediatePropagation();
      const up = event.deltaY < 0 ? 1 : -1;
      const now = useTools.getState().brush;
      if (key === "radius" || key === null)
        paint({ radius: Math.round(Math.min(2000, Math.max(0.5, now.radius * 1.1 ** up)) * 10) / 10 });
      else paint({ [key]: Math.round(Math.min(1, Math.max(0, now[key] + up * 0.05)) * 100) / 100 });
    };
    target?.addEventListener("wheel", turn, { capture: true, passive: false });
    return () => target?.removeEventListener("wheel", turn, { capture: true });
  }, [key, paint]);

  return (
    <svg
      ref={box}
      role="group"
      aria-label="Brush settings"
      className="absolute inset-0 h-full w-full cursor-default"
      onPointerDown={(event) => {
        event.stopPropagation();
        paint({ value: brush.value > 0.5 ? 0 : 1 });
      }}
    >
      <g transform={`translate(${middle[0]} ${middle[1]})`}>
        <circle r={REACH + 30} fill="#121212" fillOpacity={0.92} />
        <circle r={REACH - 22} fill="none" stroke="#333" />
        <circle
          r={Math.min(REACH - 26, Math.max(3, brush.radius / 2))}
          fill={`rgb(${Math.round(brush.value * 255)} ${Math.round(brush.value * 255)} ${Math.round(brush.value * 255)})`}
          fillOpacity={Math.max(0.15, brush.opacity)}
          stroke="#8c8c8c"
          strokeDasharray={brush.hardness < 0.98 ? "2 3" : undefined}
        />
        {PARTS.map((part) => (
          <g
            key={part.key}
            transform={`translate(${part.x * REACH} ${part.y * (REACH - 4)})`}
            textAnchor="middle"
          >
            <text y={-3} fontSize={11} fill={part.key === key ? "#b7d36b" : "#a6a6a6"}>
              {part.label}
            </text>
            <text y={11} fontSize={12} className="font-mono" fill={part.key === key ? "#b7d36b" : "#e8e8e8"}>
              {shown(brush, part.key)}
            </text>
          </g>
        ))}
      </g>
    </svg>
  );
}
