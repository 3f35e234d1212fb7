import { type PointerEvent, useRef } from "react";

interface Light {
  name: string;
  at: [number, number];
  colour: string;
}

interface Props {
  lights: Light[];
  onMove: (index: number, at: [number, number], done: boolean) => void;
}

const RADIUS = 36;

/** Where the lights come from, as seen from the eye in the middle: each is dragged, or moved with the arrow keys. */
export function LightDial({ lights, onMove }: Props) {
  const dial = useRef<SVGSVGElement>(null);
  const held = useRef<number | null>(null);
  const place = (event: PointerEvent): [number, number] => {
    const box = dial.current!.getBoundingClientRect();
    return inside(
      (event.clientX - box.left - box.width / 2) / RADIUS,
      (event.clientY - box.top - box.height / 2) / RADIUS,
    );
  };
  return (
    <svg
      ref={dial}
      width={2 * RADIUS + 12}
      height={2 * RADIUS + 12}
      viewBox={`${-RADIUS - 6} ${-RADIUS - 6} ${2 * RADIUS + 12} ${2 * RADIUS + 12}`}
      role="group"
      aria-label="Lights"
      className="absolute bottom-2 right-2 touch-none"
    >
      <title>Where the lights come from; the middle is where you look from</title>
      <circle r={RADIUS} className="fill-panel/85 stroke-line" />
      <circle r={1.5} className="fill-faint" />
      {lights.map((lamp, index) => (
        <circle
          key={lamp.name}
          role="slider"
          tabIndex={0}
          aria-label={lamp.name}
          aria-valuetext={`${Math.round(lamp.at[0] * 100)} right, ${Math.round(-lamp.at[1] * 100)} up`}
          aria-valuenow={Math.round(lamp.at[0] * 100)}
          cx={lamp.at[0] * RADIUS}
          cy={lamp.at[1] * RADIUS}
          r={index === 0 ? 6 : 4.5}
          fill={lamp.colour}
          className="cursor-move"
          onPointerDown={(event) => {
            event.currentTarget.setPointerCapture(event.pointerId);
            held.current = index;
          }}
          onPointerMove={(event) => held.current === index && onMove(index, place(event), false)}
          onPointerUp={(event) => {
            if (held.current === index) onMove(index, place(event), true);
            held.current = null;
          }}
          onKeyDown={(event) => {
            const step = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[
              event.key
            ];
            if (!step) return;
            event.preventDefault();
            event.stopPropagation();
            onMove(index, inside(lamp.at[0] + step[0]! * 0.05, lamp.at[1] + step[1]! * 0.05), true);
          }}
        />
      ))}
    </svg>
  );
}

function inside(x: number, y: number): [number, number] {
  const size = Math.max(1, Math.hypot(x, y) / 0.98);
  return [Number((x / size).toFixed(3)), Number((y / size).toFixed(3))];
}
