import { encode } from "@/stage/halves";

/** A colour with its numbers; linear values are shown through the display curve. */
export function Swatch({ values, encoded, bare }: { values: number[]; encoded: boolean; bare?: boolean }) {
  const byte = (value: number) =>
    Math.round(255 * (encoded ? Math.min(1, Math.max(0, value)) : encode(value)));
  const [r = 0, g = r, b = r] = values;
  return (
    <span className="inline-flex items-center gap-1.5 align-middle">
      <span
        aria-hidden
        className="inline-block h-3.5 w-3.5 rounded-sm border border-line"
        style={{ background: `rgb(${byte(r)} ${byte(g)} ${byte(b)})` }}
      />
      {!bare && (
        <span className="font-mono text-[11px] text-text">
          {values.map((value) => value.toFixed(3)).join(" ")}
        </span>
      )}
    </span>
  );
}
