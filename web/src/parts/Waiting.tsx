/** Something is on its way. */
export function Waiting({ text }: { text: string }) {
  return (
    <div role="status" className="animate-[breathe_1.6s_ease-in-out_infinite] p-4 text-[12px] text-dim">
      {text}
    </div>
  );
}
