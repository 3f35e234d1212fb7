import type { BenchProps } from "@/steps/props";
import { StepPanel } from "@/steps/StepPanel";

import { AuditPanel } from "./AuditPanel";
import { addable, renderOf } from "./balance";

/** The Passes bench on the right: audit above, the chosen step below. */
export function PassesPanel(props: BenchProps) {
  const { shot, recipe, items, item, writable, onPut } = props;
  const render = renderOf(recipe, items, item);
  return (
    <aside
      aria-label="Bench"
      className="flex w-80 shrink-0 flex-col overflow-hidden border-l border-line bg-panel"
    >
      <AuditPanel
        shot={shot}
        recipe={recipe}
        picture={render}
        files={render ? [] : addable(recipe, items, undefined)}
        writable={writable}
        onPut={onPut}
      />
      <StepPanel {...props} mattes={false} />
    </aside>
  );
}
