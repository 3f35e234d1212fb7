/** A dot beside words that say what is on its way; the words themselves stay legible. */
export function Breathing() {
  return (
    <span
      aria-hidden
      className="inline-block h-1.5 w-1.5 shrink-0 animate-[breathe_1.6s_ease-in-out_infinite] rounded-full bg-dim"
    />
  );
}
