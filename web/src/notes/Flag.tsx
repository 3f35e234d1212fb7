// Of one colour in both themes: it stands on pictures, whose own colours know no theme.
const LICHEN = "#b7d36b";
const SHAPE = "M5 22 V2 H15 L12 6 L15 10 H5";

/** The mark of a note, whose foot stands at what it is about. */
export function Flag({ lit }: { lit: boolean }) {
  return (
    <svg viewBox="0 0 17 23" className="h-full overflow-visible" aria-hidden="true">
      <path d={SHAPE} fill="none" stroke="#000" strokeWidth="4" strokeLinejoin="round" />
      <path d={SHAPE} fill={lit ? LICHEN : "#1b1b1b"} stroke={LICHEN} strokeWidth="1.5" />
    </svg>
  );
}
