/** The mark of a note, whose foot stands at what it is about. */
export function Flag({ lit }: { lit: boolean }) {
  return (
    <svg viewBox="0 0 16 22" className="h-full" aria-hidden="true">
      <path d="M5 22 V3" stroke="#000" strokeWidth="3" />
      <path
        d="M5 22 V2 H15 L12 6 L15 10 H5"
        strokeWidth="1.5"
        className={lit ? "fill-lichen stroke-lichen" : "fill-panel stroke-lichen hover:fill-lichen"}
      />
    </svg>
  );
}
