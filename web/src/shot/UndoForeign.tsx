import { Button } from "@/parts/Button";
import { Modal } from "@/parts/Modal";

import { useDraft } from "./draft";

/** Undo would take back what somebody else did: whose it is, before it is done. */
export function UndoForeign() {
  const { foreign, undo, leaveForeign } = useDraft();
  if (!foreign) return null;
  return (
    <Modal
      title={`The last revision is by ${foreign.author}`}
      about={`Revision ${foreign.number}: ${foreign.sentence}.`}
      open
      onClose={leaveForeign}
    >
      <p className="mb-4 text-[12px] text-dim">
        Undo would take it back. Your own changes lie below it, in the history.
      </p>
      <div className="flex justify-end gap-2">
        <Button overwrites onClick={() => undo(true)}>
          Take back {foreign.author}&apos;s change
        </Button>
        <Button main onClick={leaveForeign}>
          Leave it
        </Button>
      </div>
    </Modal>
  );
}
