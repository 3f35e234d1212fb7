import type { Item, OperationRow } from "@/api/client";
import { type Recipe } from "@/api/recipe";
import { StepPanel } from "@/bench/StepPanel";

import { AuditPanel } from "./AuditPanel";
import { renderOf } from "./balance";

interface Props {
  shot: number;
  recipe: Recipe;
  items: Item[];
  item: string | null;
  operations: OperationRow[];
  writable: boolean;
  onTurnRound: () => void;
  onPut: (change: (before: Recipe) => [Recipe, string]) => void;
}

/** The Passes bench on the right: audit above, the chosen step below. */
export function PassesPanel(props: Props) {
  const { shot, recipe, items, item, writable, onPut } = props;
  return (
    <aside
      aria-label="Bench"
      className="flex w-80 shrink-0 flex-col overflow-hidden border-l border-line bg-panel"
    >
      <AuditPanel
        shot={shot}
        recipe={recipe}
        picture={renderOf(recipe, items, item)}
        writable={writable}
        onPut={onPut}
      />
      <StepPanel {...props} mattes={false} />
    </aside>
  );
}
