import { type PointerEvent, useRef } from "react";

import { type Placement, position } from "@/stage/geometry";

import { type Line, useEdgeLine } from "./line";

type Grip = "start" | "end" | "whole";

/** The line of the edge profile over a pane: drawn by a drag, moved by its ends or as a whole. */
export function EdgeLine({ placement }: { placement: Placement }) {
  const { line, drawing, put, draw } = useEdgeLine();
  const held = useRef<{ grip: Grip; from: [number, number]; line: Line } | null>(null);
  const box = useRef<SVGSVGElement>(null);
  const at = (event: PointerEvent): [number, number] => {
    const own = box.current!.getBoundingClientRect();
    return position(placement, event.clientX - own.left, event.clientY - own.top);
  };
  const to = (x: number, y: number) =>
    [(x - placement.left) * placement.zoom, (y - placement.top) * placement.zoom] as const;
  const round = (value: number) => Math.round(value * 10) / 10;

  const down = (event: PointerEvent, grip: Grip, from: Line) => {
    if (event.button !== 0) return;
    event.stopPropagation();
    box.current!.setPointerCapture(event.pointerId);
    held.current = { grip, from: at(event), line: from };
  };
  const move = (event: PointerEvent) => {
    const now = held.current;
    if (!now) return;
    const [x, y] = at(event);
    const [dx, dy] = [x - now.from[0], y - now.from[1]];
    const [x0, y0, x1, y1] = now.line;
    const start = now.grip !== "end";
    const end = now.grip !== "start";
    put([
      round(start ? x0 + dx : x0),
      round(start ? y0 + dy : y0),
      round(end ? x1 + dx : x1),
      round(end ? y1 + dy : y1),
    ]);
  };
  const up = () => {
    if (!held.current) return;
    held.current = null;
    draw(false);
  };
  const ends = line && [to(line[0], line[1]), to(line[2], line[3])];
  return (
    <svg
      ref={box}
      role="img"
      aria-label="Edge line"
      data-testid="edge-line"
      className={`absolute inset-0 h-full w-full touch-none ${drawing ? "pointer-events-auto cursor-crosshair" : "pointer-events-none"}`}
      onPointerDown={(event) => {
        if (!drawing) return;
        const [x, y] = at(event);
        down(event, "end", [round(x), round(y), round(x), round(y)]);
      }}
      onPointerMove={move}
      onPointerUp={up}
    >
      {line && ends && (
        <g className="pointer-events-auto">
          {[
            { width: 10, stroke: "transparent" },
            { width: 3, stroke: "#000" },
            { width: 1.2, stroke: "#fff" },
          ].map(({ width, stroke }) => (
            <line
              key={width}
              x1={ends[0]![0]}
              y1={ends[0]![1]}
              x2={ends[1]![0]}
              y2={ends[1]![1]}
              stroke={stroke}
              strokeWidth={width}
              className="cursor-move"
              onPointerDown={(event) => down(event, "whole", line)}
            />
          ))}
          {ends.map(([x, y], index) => (
            <circle
              key={index}
              cx={x}
              cy={y}
              r={5}
              fill={index ? "#fff" : "#000"}
              stroke={index ? "#000" : "#fff"}
              strokeWidth={1.4}
              className="cursor-grab"
              data-end={index}
              onPointerDown={(event) => down(event, index ? "end" : "start", line)}
            />
          ))}
        </g>
      )}
    </svg>
  );
}
