import { Breathing } from "./Breathing";

/** Something is on its way. */
export function Waiting({ text }: { text: string }) {
  return (
    <div role="status" className="flex items-center gap-2 p-4 text-[12px] text-dim">
      <Breathing />
      {text}
    </div>
  );
}
