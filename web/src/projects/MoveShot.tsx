import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { type ShotRow, api, got } from "@/api/client";
import { Button } from "@/parts/Button";
import { Choose } from "@/parts/Choose";
import { Message } from "@/parts/Message";
import { Modal } from "@/parts/Modal";
import { useAttempt } from "@/parts/useAttempt";
import { Waiting } from "@/parts/Waiting";

interface Props {
  shot: ShotRow;
  project: number;
  onClose: () => void;
  onDone: () => Promise<void>;
}

/** Into which project a shot goes. */
export function MoveShot({ shot, project, onClose, onDone }: Props) {
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
