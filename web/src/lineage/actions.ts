import type { Step, placesFor } from "@/api/recipe";
import type { Choice } from "@/parts/Menu";

/** What can be done with an item of the lineage. */
export interface Actions {
  rename: (name: string) => void;
  duplicate: (name: string) => void;
  /** To the clipboard, alone or with what it needs. */
  copy: (name: string, needed: boolean) => void;
  /** With what it needs, under a name in the project. */
  keep: (name: string) => void;
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
  places: ReturnType<typeof placesFor>,
  actions: Actions,
): Choice[] {
  const common: Choice[] = [{ label: "Rename", onSelect: () => actions.rename(name) }];
  if (!step) return [...common, { label: "Remove", danger: true, onSelect: () => actions.remove(name) }];
  return [
    ...common,
    { label: "Duplicate", onSelect: () => actions.duplicate(name) },
    { label: "Copy", onSelect: () => actions.copy(name, false) },
    { label: "Copy with what it needs", keys: "Ctrl C", onSelect: () => actions.copy(name, true) },
    { label: "Keep as a chain…", onSelect: () => actions.keep(name) },
    { label: step.on === false ? "Turn on" : "Turn off", keys: "O", onSelect: () => actions.toggle(name) },
    { label: "Turn round (invert)", keys: "N", onSelect: () => actions.turnRound(name) },
    { label: step.note ? "Change the note" : "Note", onSelect: () => actions.note(name) },
    {
      label: position <= places.first && places.by[0] ? `Stays right of ${places.by[0]}` : "Move left",
      disabled: position <= places.first,
      onSelect: () => actions.move(name, position - 1),
    },
    {
      label: position >= places.last && places.by[1] ? `Stays left of ${places.by[1]}` : "Move right",
      disabled: position >= places.last,
      onSelect: () => actions.move(name, position + 1),
    },
    { label: "Delete", danger: true, onSelect: () => actions.remove(name) },
  ];
}
