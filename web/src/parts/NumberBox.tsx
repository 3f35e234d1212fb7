import { useRef, useState } from "react";

import { calculated, isCalculation } from "./arithmetic";

interface Props {
  label: string;
  value: number;
  step?: number;
  min?: number;
  max?: number;
  unit?: string;
  /** Digits after the point that are always shown; two where nothing is said. */
  places?: number;
  onChange: (value: number, done: boolean) => void;
  className?: string;
}

/** Digits after the point that a number of this step deserves. */
export function digits(step: number): number {
  return Math.max(0, Math.min(6, Math.ceil(-Math.log10(step) - 1e-9)));
}

/** A number as text: as many digits as its step deserves, more where the value has more (up to 6). */
export function shown(value: number, step: number, places = 2): string {
  const fixed = value.toFixed(Math.max(digits(step), places));
  return Math.abs(Number(fixed) - value) < step / 20 ? fixed : String(Number(value.toPrecision(6)));
}

/** A number that is typed, dragged sideways (finely with Shift) or stepped with the arrow keys. */
export function NumberBox({
  label,
  value,
  step = 0.01,
  min,
  max,
  unit,
  places,
  onChange,
  className = "",
}: Props) {
  const [typed, setTyped] = useState<string | null>(null);
  const drag = useRef<{ x: number; value: number; moved: boolean } | null>(null);
  const held = (next: number) => Math.min(max ?? Infinity, Math.max(min ?? -Infinity, next));
  const result = typed === null || typed.trim() === "" ? null : calculated(typed, value);
  /** Whether it could be read; what can't stays there to be put right. */
  const commit = (text: string): boolean => {
    const next = text.trim() === "" ? { value } : calculated(text, value);
    if ("fault" in next) return false;
    setTyped(null);
    if (next.value !== value) onChange(held(next.value), true);
    return true;
  };
  return (
    <span className={`relative inline-flex items-baseline gap-1 ${className}`}>
      <input
        aria-label={label}
        title={`${label}: type it or a calculation (1/3, *1.5, +0.02, 50%), drag sideways, or ↑ ↓; Shift moves finely`}
        aria-invalid={result !== null && "fault" in result}
        inputMode="decimal"
        value={typed ?? shown(value, step, places)}
        className="w-14 cursor-ew-resize rounded-sm bg-transparent px-1 text-right font-mono text-[12px] text-text hover:bg-raised focus:cursor-text focus:bg-raised aria-invalid:text-ember"
        onFocus={(event) => event.target.select()}
        onChange={(event) => setTyped(event.target.value)}
        onBlur={(event) => typed !== null && commit(event.target.value)}
        onKeyDown={(event) => {
          // What is typed here is the number's: no key of the page.
          event.stopPropagation();
          if (event.key === "Enter" && commit(event.currentTarget.value)) event.currentTarget.blur();
          if (event.key === "Escape") {
            setTyped(null);
            event.currentTarget.blur();
          }
          const turn = event.key === "ArrowUp" ? 1 : event.key === "ArrowDown" ? -1 : 0;
          if (turn) {
            event.preventDefault();
            setTyped(null);
            onChange(held(Number((value + turn * step * (event.shiftKey ? 0.1 : 1)).toPrecision(12))), true);
          }
        }}
        onPointerDown={(event) => {
          if (document.activeElement === event.currentTarget) return;
          drag.current = { x: event.clientX, value, moved: false };
          event.currentTarget.setPointerCapture(event.pointerId);
        }}
        onPointerMove={(event) => {
          const from = drag.current;
          if (!from || (!from.moved && Math.abs(event.clientX - from.x) < 4)) return;
          from.moved = true;
          onChange(held(from.value + (event.clientX - from.x) * step * (event.shiftKey ? 0.1 : 1)), false);
        }}
        onPointerUp={(event) => {
          if (drag.current?.moved) {
            event.currentTarget.blur();
            onChange(value, true);
          }
          drag.current = null;
        }}
      />
      {unit && <span className="text-[11px] text-faint">{unit}</span>}
      {result && typed !== null && ("fault" in result || isCalculation(typed)) && (
        <span
          role="status"
          className={`pointer-events-none absolute right-0 top-full z-40 whitespace-nowrap rounded-sm border bg-raised px-1.5 py-0.5 font-mono text-[11px] ${"fault" in result ? "border-ember text-ember" : "border-line text-text"}`}
        >
          {"fault" in result ? `“${typed}” ${result.fault}` : `= ${shown(held(result.value), step, places)}`}
        </span>
      )}
    </span>
  );
}
