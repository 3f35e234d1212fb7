import { Button } from "@/parts/Button";
import { Modal } from "@/parts/Modal";

import { useDraft } from "./draft";

/** Somebody else saved in the meantime: theirs or mine, never a silent overwrite. */
export function Conflict() {
  const { conflict, takeTheirs, keepMine } = useDraft();
  if (!conflict) return null;
  return (
    <Modal
      title="Another revision was saved"
      about={`${conflict.problem.message}.`}
      open
      onClose={() => undefined}
    >
      <p className="mb-4 text-[12px] text-dim">
        Your change is not saved yet. Taking theirs drops your last change; saving yours makes a new revision
        on top, and theirs stays in the history.
      </p>
      <div className="flex justify-end gap-2">
        <Button onClick={takeTheirs}>Take revision {conflict.head.number}</Button>
        <Button main onClick={keepMine}>
          Save mine on top
        </Button>
      </div>
    </Modal>
  );
}
