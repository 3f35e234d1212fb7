import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { type ShotRow, api, got, problemOf } from "@/api/client";
import { Button } from "@/parts/Button";
import { Choose } from "@/parts/Choose";
import { Message } from "@/parts/Message";
import { Modal } from "@/parts/Modal";
import { useAttempt } from "@/parts/useAttempt";
import { Waiting } from "@/parts/Waiting";

import { bytesText } from "./wall";

interface Props {
  shot: ShotRow;
  onClose: () => void;
  onDone: () => Promise<void>;
}

const told = new Intl.DateTimeFormat("en-GB", { dateStyle: "medium" });
const many = (count: number, one: string) => `${count} ${one}${count === 1 ? "" : "s"}`;

/** What would go with a shot, before it is deleted. */
export function DeleteShot({ shot, onClose, onDone }: Props) {
  const params = { path: { shot_id: shot.id } };
  const loss = useQuery({
    queryKey: ["loss", shot.id],
    queryFn: () => got(api.GET("/api/shots/{shot_id}/loss", { params })),
    gcTime: 0,
  });
  const { problem, attempt } = useAttempt();
  const remove = () =>
    attempt(async () => {
      await got(api.DELETE("/api/shots/{shot_id}", { params }));
      await onDone();
    });
  return (
    <Modal title={`Delete ${shot.name}?`} open onClose={onClose} width={420}>
      {loss.isPending && <Waiting text="Looking at what would go" />}
      {loss.isError && <Message problem={problemOf(loss.error)} />}
      {loss.data && (
        <p className="mb-3">
          With it go {many(loss.data.revisions, "revision")}, {many(loss.data.sources, "source")}
          {loss.data.bytes > 0 && ` (${bytesText(loss.data.bytes)} of files that no other shot has)`} and{" "}
          {many(loss.data.deliverables, "deliverable")}. For thirty days it can be recovered, under Deleted;
          then it is gone for good.
        </p>
      )}
      {problem && <Message problem={problem} />}
      <div className="mt-3 flex justify-end gap-2">
        <Button onClick={onClose}>Cancel</Button>
        <Button main disabled={!loss.data} onClick={() => void remove()}>
          Delete
        </Button>
      </div>
    </Modal>
  );
}

/** Into which project a shot goes. */
export function MoveShot({ shot, project, onClose, onDone }: Props & { project: number }) {
  const projects = useQuery({ queryKey: ["projects"], queryFn: () => got(api.GET("/api/projects")) });
  const others = projects.data?.filter((row) => row.id !== project && row.role !== "viewer") ?? [];
  const [chosen, setChosen] = useState("");
  const { problem, attempt } = useAttempt();
  const to = chosen || String(others[0]?.id ?? "");
  const move = () =>
    attempt(async () => {
      await got(
        api.PUT("/api/shots/{shot_id}", {
          params: { path: { shot_id: shot.id } },
          body: { project: Number(to) },
        }),
      );
      await onDone();
    });
  return (
    <Modal title={`Move ${shot.name}`} open onClose={onClose} width={380}>
      {projects.isPending && <Waiting text="Fetching projects" />}
      {projects.data && others.length === 0 && (
        <p className="text-dim">There is no other project that you may work in.</p>
      )}
      {others.length > 0 && (
        <div className="mb-3 flex items-center gap-3 text-dim">
          Into
          <Choose
            label="Project"
            value={to}
            options={others.map((row) => ({ value: String(row.id), label: row.name }))}
            onChange={setChosen}
            className="min-w-0 grow"
          />
        </div>
      )}
      {problem && <Message problem={problem} />}
      <div className="mt-3 flex justify-end gap-2">
        <Button onClick={onClose}>Cancel</Button>
        <Button main disabled={!to} onClick={() => void move()}>
          Move
        </Button>
      </div>
    </Modal>
  );
}

/** What was deleted and can be recovered still. */
export function DeletedShots(props: {
  project: number;
  writable: boolean;
  onClose: () => void;
  onRecovered: () => Promise<void>;
}) {
  const { project, writable, onClose, onRecovered } = props;
  const rows = useQuery({
    queryKey: ["deleted", project],
    queryFn: () =>
      got(api.GET("/api/projects/{project_id}/deleted", { params: { path: { project_id: project } } })),
    gcTime: 0,
  });
  const { problem, attempt } = useAttempt();
  const recover = (id: number) =>
    attempt(async () => {
      await got(api.POST("/api/shots/{shot_id}/recovery", { params: { path: { shot_id: id } } }));
      await onRecovered();
      await rows.refetch();
    });
  return (
    <Modal title="Deleted shots" open onClose={onClose} width={460}>
      {rows.isPending && <Waiting text="Fetching what was deleted" />}
      {rows.isError && <Message problem={problemOf(rows.error)} />}
      {rows.data?.length === 0 && <p className="text-dim">Nothing was deleted in the last thirty days.</p>}
      <ul className="divide-y divide-line">
        {rows.data?.map((row) => (
          <li key={row.id} className="flex items-center gap-3 py-2">
            <span className="min-w-0 grow">
              <span className="block truncate text-[13px]">{row.name}</span>
              <span className="block text-[12px] text-dim">
                deleted {told.format(new Date(row.deleted))}, gone for good on{" "}
                {told.format(new Date(row.gone))}
              </span>
            </span>
            {writable && (
              <Button aria-label={`Recover ${row.name}`} onClick={() => void recover(row.id)}>
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
