import { Popover } from "radix-ui";
import { type PointerEvent, useRef } from "react";

import { Button } from "@/parts/Button";
import { NumberBox } from "@/parts/NumberBox";

interface Props {
  label: string;
  value: [number, number, number];
  onChange: (value: [number, number, number], done: boolean) => void;
}

const RADIUS = 54;
const WEIGHTS = [0.2126, 0.7152, 0.0722];

/** The tint at a place of the dial: hue by the angle, strength by the distance; luminance stays what it was. */
export function tintAt(x: number, y: number): [number, number, number] {
  const angle = Math.atan2(y, x);
  const strength = Math.min(1, Math.hypot(x, y));
  const raw = [0, 1, 2].map((index) => 1 + 0.8 * strength * Math.cos(angle - (index * 2 * Math.PI) / 3));
  const luma = raw.reduce((sum, part, index) => sum + part * WEIGHTS[index]!, 0);
  return raw.map((part) => Math.round((part / luma) * 1000) / 1000) as [number, number, number];
}

/** Where a tint lies on the dial. */
export function placeOf([r, g, b]: [number, number, number]): [number, number] {
  const mean = (r + g + b) / 3 || 1;
  const x = ((2 * r - g - b) / 3 / mean) * 1.25;
  const y = ((g - b) / Math.sqrt(3) / mean) * 1.25;
  const size = Math.hypot(x, y);
  return size > 1 ? [x / size, y / size] : [x, y];
}

function shown(tint: [number, number, number]): string {
  const most = Math.max(...tint, 1e-6);
  return `rgb(${tint.map((part) => Math.round(255 * Math.max(0, part / most) ** (1 / 2.2))).join(" ")})`;
}

/** A pass's tint: a swatch that opens a dial, with its three factors to type. */
export function TintDial({ label, value, onChange }: Props) {
  const dial = useRef<SVGSVGElement>(null);
  const [px, py] = placeOf(value);
  const follow = (event: PointerEvent, done: boolean) => {
    const box = dial.current?.getBoundingClientRect();
    if (!box || (!done && event.buttons !== 1)) return;
    const x = (event.clientX - box.left - box.width / 2) / RADIUS;
    const y = (event.clientY - box.top - box.height / 2) / RADIUS;
    onChange(Math.hypot(x, y) < 0.06 ? [1, 1, 1] : tintAt(x, y), done);
  };
  return (
    <Popover.Root>
      <Popover.Trigger
        aria-label={`Tint of ${label}`}
        className="h-4 w-7 rounded-sm border border-line hover:border-faint"
        style={{ background: shown(value) }}
      />
      <Popover.Portal>
        <Popover.Content
          side="top"
          sideOffset={6}
          collisionPadding={8}
          className="z-50 rounded-sm border border-line bg-raised p-3 shadow-xl"
        >
          <svg
            ref={dial}
            width={2 * RADIUS + 12}
            height={2 * RADIUS + 12}
            viewBox={`${-RADIUS - 6} ${-RADIUS - 6} ${2 * RADIUS + 12} ${2 * RADIUS + 12}`}
            role="img"
            aria-label={`Tint dial of ${label}`}
            className="mx-auto block touch-none cursor-crosshair"
            onPointerDown={(event) => {
              event.currentTarget.setPointerCapture(event.pointerId);
              follow(event, false);
            }}
            onPointerMove={(event) => follow(event, false)}
            onPointerUp={(event) => follow(event, true)}
          >
            {Array.from({ length: 36 }, (_, index) => {
              const angle = (index / 36) * 2 * Math.PI;
              const [x, y] = [Math.cos(angle), Math.sin(angle)];
              return (
                <line
                  key={index}
                  x1={x * (RADIUS - 7)}
                  y1={y * (RADIUS - 7)}
                  x2={x * RADIUS}
                  y2={y * RADIUS}
                  stroke={shown(tintAt(x, y))}
                  strokeWidth={6}
                />
              );
            })}
            <circle r={RADIUS - 12} className="fill-panel stroke-line" />
            <line x1={-5} x2={5} className="stroke-faint" />
            <line y1={-5} y2={5} className="stroke-faint" />
            <circle
              cx={px * (RADIUS - 12)}
              cy={py * (RADIUS - 12)}
              r={5}
              fill={shown(value)}
              className="stroke-text"
              strokeWidth={1.4}
            />
          </svg>
          <div className="mt-2 flex items-center">
            {value.map((part, index) => (
              <NumberBox
                key={index}
                label={`Tint of ${label}, ${["red", "green", "blue"][index]}`}
                value={part}
                step={0.01}
                min={0}
                onChange={(next, done) =>
                  onChange(
                    value.map((old, at) => (at === index ? next : old)) as [number, number, number],
                    done,
                  )
                }
              />
            ))}
          </div>
          <Button quiet className="mt-1" onClick={() => onChange([1, 1, 1], true)}>
            No tint
          </Button>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
