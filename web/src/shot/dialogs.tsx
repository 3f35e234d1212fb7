import { type FormEvent, useState } from "react";

import { ITEM_NAME, LONGEST_NAME, asName } from "@/api/names";
import { type Recipe, firstInput, itemsOf, findStep, usersOf } from "@/api/recipe";
import { Button } from "@/parts/Button";
import { Modal } from "@/parts/Modal";
import { TextField } from "@/parts/TextField";

interface RenameProps {
  recipe: Recipe;
  name: string;
  onClose: () => void;
  onRename: (to: string) => void;
}

/** Ask for another name; everything that uses the item follows. */
export function RenameDialog({ recipe, name, onClose, onRename }: RenameProps) {
  const [to, setTo] = useState(name);
  const taken = to !== name && itemsOf(recipe).includes(to);
  const fault = !ITEM_NAME.test(to)
    ? "A name begins with a letter."
    : taken
      ? `There is a '${to}' already.`
      : "";
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (!fault) onRename(to);
  };
  return (
    <Modal title={`Rename ${name}`} open onClose={onClose} width={340}>
      <form onSubmit={submit} className="space-y-3">
        <TextField
          label="Name"
          value={to}
          autoFocus
          onFocus={(event) => event.target.select()}
          onChange={(event) => setTo(asName(event.target.value))}
          maxLength={LONGEST_NAME}
          aria-invalid={fault !== ""}
        />
        <p role="status" className="min-h-4 text-[12px] text-clay">
          {fault || (to.length === LONGEST_NAME ? `${LONGEST_NAME} letters are the most.` : "")}
        </p>
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button main type="submit" disabled={fault !== ""}>
            Rename
          </Button>
        </div>
      </form>
    </Modal>
  );
}

interface NoteProps {
  name: string;
  note: string;
  onClose: () => void;
  onNote: (note: string) => void;
}

/** Free text kept with a step. */
export function NoteDialog({ name, note, onClose, onNote }: NoteProps) {
  const [text, setText] = useState(note);
  return (
    <Modal title={`Note on ${name}`} open onClose={onClose} width={380}>
      <textarea
        autoFocus
        aria-label="Note"
        rows={4}
        value={text}
        onChange={(event) => setText(event.target.value)}
        className="mb-3 w-full rounded-sm border border-line bg-raised p-2 text-[13px]"
      />
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>Cancel</Button>
        <Button main onClick={() => onNote(text.trim())}>
          Keep
        </Button>
      </div>
    </Modal>
  );
}

interface RemoveProps {
  recipe: Recipe;
  name: string;
  onClose: () => void;
  onRemove: (bridge: boolean) => void;
}

/** Before something that others depend on goes: who they are, and what can become of them. */
export function RemoveDialog({ recipe, name, onClose, onRemove }: RemoveProps) {
  const step = findStep(recipe, name);
  const users = usersOf(recipe, name);
  const input = firstInput(step);
  const list = users.join(", ");
  return (
    <Modal
      title={step ? `Delete ${name}?` : `Remove ${name}?`}
      about={`${users.length === 1 ? "One step uses" : `${users.length} steps use`} it: ${list}.`}
      open
      onClose={onClose}
    >
      <p className="mb-4 text-[12px] text-dim">
        {step && input
          ? `They can be fed from ${input} instead, or be left without it until you feed them anew.`
          : "They stay, with a fault, until you feed them anew. The file is kept: undo brings it back."}
      </p>
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>Cancel</Button>
        {step && input && (
          <Button overwrites onClick={() => onRemove(true)}>
            Delete, feed them from {input}
          </Button>
        )}
        <Button overwrites className="border-ember text-ember" onClick={() => onRemove(false)}>
          {step ? "Delete only" : "Remove"}
        </Button>
      </div>
    </Modal>
  );
}
