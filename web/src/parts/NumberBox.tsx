import { useRef, useState } from "react";

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
  const commit = (text: string) => {
    const next = Number(text.replace(",", "."));
    setTyped(null);
    if (text.trim() !== "" && Number.isFinite(next) && next !== value) onChange(held(next), true);
  };
  return (
    <span className={`inline-flex items-baseline gap-1 ${className}`}>
      <input
        aria-label={label}
        data-number
        title={`${label}: type it, drag sideways, or ↑ ↓; Shift moves finely`}
        inputMode="decimal"
        value={typed ?? shown(value, step, places)}
        className="w-14 cursor-ew-resize rounded-sm bg-transparent px-1 text-right font-mono text-[12px] text-text hover:bg-raised focus:cursor-text focus:bg-raised"
        onFocus={(event) => event.target.select()}
        onChange={(event) => setTyped(event.target.value)}
        onBlur={(event) => typed !== null && commit(event.target.value)}
        onKeyDown={(event) => {
          // No number has these: they find a step, or the keys, from here too.
          if (event.key === "/" || event.key === "?") return;
          event.stopPropagation();
          if (event.key === "Enter") {
            commit(event.currentTarget.value);
            event.currentTarget.blur();
          }
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
    </span>
  );
}
