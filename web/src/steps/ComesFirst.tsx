import { X } from "lucide-react";

import type { Item, OperationRow } from "@/api/client";
import { type Recipe, findStep } from "@/api/recipe";
import { usePut } from "@/shot/chains";

import { OneSetting, settingsOf } from "./OneSetting";

interface Props {
  shot: number;
  recipe: Recipe;
  items: Item[];
  item: string;
  operations: OperationRow[];
  writable: boolean;
}

/** The settings that one wants to see first of the chain that was put to use, while one of its steps is in focus. */
export function ComesFirst({ recipe, item, operations, ...common }: Props) {
  const { put, change } = usePut();
  if (!put?.steps.includes(item)) return null;
  const rows = put.first.flatMap(([name, setting]) => {
    const step = findStep(recipe, name);
    const operation = operations.find((row) => row.op === step?.op);
    const schema = settingsOf(operation).find(([other]) => other === setting)?.[1];
    // What stands among its own settings below need not stand here too.
    return step && schema && name !== item ? [{ step, operation, name: setting, schema }] : [];
  });
  if (!rows.length) return null;
  return (
    <div
      role="group"
      aria-label={`First settings of ${put.name}`}
      className="space-y-2 rounded-sm border border-line p-2"
    >
      <div className="flex items-center gap-2 text-dim">
        <span className="min-w-0 grow truncate">{put.name}</span>
        <button
          type="button"
          aria-label="Put the first settings away"
          title="Put the first settings away"
          onClick={() => change(null)}
          className="hover:text-text"
        >
          <X size={13} />
        </button>
      </div>
      {rows.map((row, index) => (
        <div key={`${row.step.name} ${row.name}`}>
          {rows[index - 1]?.step.name !== row.step.name && (
            <p className="font-mono text-[11px] text-faint">{row.step.name}</p>
          )}
          <OneSetting recipe={recipe} {...common} {...row} />
        </div>
      ))}
    </div>
  );
}
