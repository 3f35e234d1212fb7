import { useQuery } from "@tanstack/react-query";

import { problemOf } from "@/api/client";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";
import { Modal } from "@/parts/Modal";
import { Waiting } from "@/parts/Waiting";
import { useAttempt } from "@/parts/useAttempt";
import { day } from "@/parts/when";

import { bytesText } from "./wall";

const many = (count: number, one: string) => `${count} ${one}${count === 1 ? "" : "s"}`;

interface Loss {
  shots?: number;
  revisions: number;
  sources: number;
  bytes: number;
  deliverables: number;
}

interface DeleteProps {
  /** What is to be deleted, by its name. */
  name: string;
  /** What would go with it. */
  look: () => Promise<Loss>;
  remove: () => Promise<unknown>;
  onClose: () => void;
  onDone: () => Promise<void>;
}

/** What would go with a shot or a project, before it is deleted. */
export function DeleteDialog({ name, look, remove, onClose, onDone }: DeleteProps) {
  const loss = useQuery({ queryKey: ["loss", name], queryFn: look, gcTime: 0, staleTime: 0 });
  const { problem, attempt } = useAttempt();
  const found = loss.data;
  return (
    <Modal title={`Delete ${name}?`} open onClose={onClose} width={420}>
      {loss.isPending && <Waiting text="Looking at what would go" />}
      {loss.isError && <Message problem={problemOf(loss.error)} />}
      {found && (
        <p className="mb-3">
          With it go {found.shots !== undefined && `${many(found.shots, "shot")}, `}
          {many(found.revisions, "revision")}, {many(found.sources, "source")}
          {found.bytes > 0 && ` (${bytesText(found.bytes)} of files that nothing else has)`} and{" "}
          {many(found.deliverables, "deliverable")}. For thirty days it can be recovered, under Deleted; then
          it is gone for good.
        </p>
      )}
      {problem && <Message problem={problem} />}
      <div className="mt-3 flex justify-end gap-2">
        <Button onClick={onClose}>Cancel</Button>
        <Button
          main
          overwrites
          disabled={!found}
          onClick={() =>
            void attempt(async () => {
              await remove();
              await onDone();
            })
          }
        >
          Delete
        </Button>
      </div>
    </Modal>
  );
}

interface DeletedProps {
  /** What they are: shots or projects. */
  kind: string;
  queryKey: unknown[];
  fetch: () => Promise<{ id: number; name: string; deleted: string; gone: string }[]>;
  /** Bring one back; null where one may not. */
  recover: ((id: number) => Promise<unknown>) | null;
  onClose: () => void;
  onRecovered: () => Promise<void>;
}

/** What was deleted and can be recovered still. */
export function DeletedDialog({ kind, queryKey, fetch, recover, onClose, onRecovered }: DeletedProps) {
  const rows = useQuery({ queryKey, queryFn: fetch, gcTime: 0, staleTime: 0 });
  const { problem, attempt } = useAttempt();
  const bring = (id: number) =>
    attempt(async () => {
      await recover?.(id);
      await onRecovered();
      await rows.refetch();
    });
  return (
    <Modal title={`Deleted ${kind}`} open onClose={onClose} width={460}>
      {rows.isPending && <Waiting text="Fetching what was deleted" />}
      {rows.isError && <Message problem={problemOf(rows.error)} />}
      {rows.data?.length === 0 && <p className="text-dim">Nothing was deleted in the last thirty days.</p>}
      <ul className="divide-y divide-line">
        {rows.data?.map((row) => (
          <li key={row.id} className="flex items-center gap-3 py-2">
            <span className="min-w-0 grow">
              <span className="block truncate text-[13px]">{row.name}</span>
              <span className="block text-[12px] text-dim">
                deleted {day(row.deleted)}, gone for good on {day(row.gone)}
              </span>
            </span>
            {recover && (
              <Button aria-label={`Recover ${row.name}`} onClick={() => void bring(row.id)}>
                Recover
              </Button>
            )}
          </li>
        ))}
      </ul>
      {problem && <Message problem={problem} />}
    </Modal>
  );
}
