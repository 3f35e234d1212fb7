import { Button } from "@/parts/Button";
import { Modal } from "@/parts/Modal";

import { useDraft } from "./draft";

/** Somebody else changed the same places in the meantime: both values, and the choice. All else is put together. */
export function Conflict() {
  const { conflict, takeTheirs, keepMine, setAside } = useDraft();
  if (!conflict || conflict.aside) return null;
  const { clashes, head, problem } = conflict;
  return (
    <Modal
      title="Another revision was saved"
      about={`${problem.message}.`}
      width={560}
      open
      onClose={() => setAside(true)}
    >
      {clashes ? (
        <>
          <p className="mb-2 text-[12px] text-dim">
            Everything else of both is put together; {clashes.length === 1 ? "one place was" : "these were"}{" "}
            changed by both.
          </p>
          <table className="mb-4 w-full table-fixed text-left text-[12px]" aria-label="Changed by both">
            <thead className="text-faint">
              <tr>
                <th className="py-1 font-normal">Place</th>
                <th className="py-1 font-normal">Mine</th>
                <th className="py-1 font-normal">Revision {head.number}</th>
              </tr>
            </thead>
            <tbody>
              {clashes.map(({ where, mine, theirs }) => (
                <tr key={where} className="border-t border-line align-top">
                  <th scope="row" className="break-words py-1 pr-2 font-normal">
                    {where}
                  </th>
                  <td className="break-words py-1 pr-2 font-mono">{mine}</td>
                  <td className="break-words py-1 font-mono">{theirs}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      ) : (
        <p className="mb-4 text-[12px] text-dim">
          Your change is not saved yet. Taking theirs drops your last change; saving yours makes a new
          revision on top, and theirs stays in the history.
        </p>
      )}
      <div className="flex justify-end gap-2">
        {clashes && (
          <Button quiet overwrites onClick={() => takeTheirs(true)}>
            Drop all of mine
          </Button>
        )}
        <Button overwrites onClick={() => takeTheirs()}>
          {clashes ? "Take theirs there" : `Take revision ${head.number}`}
        </Button>
        <Button main overwrites onClick={keepMine}>
          {clashes ? "Keep mine there" : "Save mine on top"}
        </Button>
      </div>
    </Modal>
  );
}
