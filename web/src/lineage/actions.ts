import type { Step } from "@/api/recipe";
import type { Choice } from "@/parts/Menu";

/** What can be done with an item of the lineage. */
export interface Actions {
  rename: (name: string) => void;
  duplicate: (name: string) => void;
  toggle: (name: string) => void;
  turnRound: (name: string) => void;
  note: (name: string) => void;
  move: (name: string, to: number) => void;
  remove: (name: string) => void;
}

/** The menu of a source or step. */
export function choicesFor(
  name: string,
  step: Step | undefined,
  position: number,
  count: number,
  actions: Actions,
): Choice[] {
  const common: Choice[] = [{ label: "Rename", onSelect: () => actions.rename(name) }];
  if (!step) return [...common, { label: "Remove", danger: true, onSelect: () => actions.remove(name) }];
  return [
    ...common,
    { label: "Duplicate", onSelect: () => actions.duplicate(name) },
    { label: step.on === false ? "Turn on" : "Turn off", keys: "O", onSelect: () => actions.toggle(name) },
    { label: "Turn round (invert)", keys: "N", onSelect: () => actions.turnRound(name) },
    { label: step.note ? "Change the note" : "Note", onSelect: () => actions.note(name) },
    { label: "Move earlier", disabled: position <= 0, onSelect: () => actions.move(name, position - 1) },
    {
      label: "Move later",
      disabled: position >= count - 1,
      onSelect: () => actions.move(name, position + 1),
    },
    { label: "Delete", danger: true, onSelect: () => actions.remove(name) },
  ];
}
