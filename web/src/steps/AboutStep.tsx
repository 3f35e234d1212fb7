import type { OperationRow } from "@/api/client";
import { partsOf } from "@/help/AboutOperation";
import { stepPage, useHelp } from "@/help/helpState";

/** What a step does, in a line, and by a click in full: its formula, its figures, where it comes from. */
export function AboutStep({ operation }: { operation: OperationRow }) {
  const show = useHelp((state) => state.show);
  const [first] = partsOf(operation.text);
  if (!first) return null;
  return (
    <p className="border-t border-line pt-3 text-[12px] leading-snug text-dim">
      {first.text}{" "}
      <button
        type="button"
        title="In full: its formula, its figures, where it comes from"
        className="whitespace-nowrap text-text underline decoration-line underline-offset-2 hover:decoration-lichen"
        onClick={() => show(stepPage(operation.op))}
      >
        How it works
      </button>
    </p>
  );
}
