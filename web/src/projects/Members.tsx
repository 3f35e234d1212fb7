import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { useNavigate } from "react-router";

import { api, got, problemOf } from "@/api/client";
import { useSession } from "@/api/queries";
import type { components } from "@/api/schema";
import { Button } from "@/parts/Button";
import { Choose } from "@/parts/Choose";
import { Message } from "@/parts/Message";
import { Modal } from "@/parts/Modal";
import { TextField } from "@/parts/TextField";
import { useAttempt } from "@/parts/useAttempt";
import { Waiting } from "@/parts/Waiting";

type Role = components["schemas"]["Role"];

const ROLES: { value: Role; label: string }[] = [
  { value: "owner", label: "Owner" },
  { value: "artist", label: "Artist" },
  { value: "viewer", label: "Viewer" },
];
const MAY: Record<Role, string> = {
  owner: "Works on shots, and says who works here.",
  artist: "Works on shots.",
  viewer: "Looks at everything, changes nothing.",
};

/** Who works in a project, and as what; an owner changes it, everybody may leave. */
export function Members({ project, role, onClose }: { project: number; role: string; onClose: () => void }) {
  const own = useSession().data?.person;
  const client = useQueryClient();
  const navigate = useNavigate();
  const path = { path: { project_id: project } };
  const owner = role === "owner";
  const key = ["members", project];
  const members = useQuery({
    queryKey: key,
    queryFn: () => got(api.GET("/api/projects/{project_id}/members", { params: path })),
  });
  const candidates = useQuery({
    queryKey: ["candidates", project, members.data?.length],
    queryFn: () => got(api.GET("/api/projects/{project_id}/candidates", { params: path })),
    enabled: owner,
  });
  const [username, setUsername] = useState("");
  const [as, setAs] = useState<Role>("artist");
  const { problem, attempt } = useAttempt(() =>
    Promise.all(
      [key, ["project", project], ["projects"]].map((queryKey) => client.invalidateQueries({ queryKey })),
    ),
  );
  const add = (event: FormEvent) => {
    event.preventDefault();
    void attempt(async () => {
      await got(
        api.POST("/api/projects/{project_id}/members", { params: path, body: { username, role: as } }),
      );
      setUsername("");
    });
  };
  const of = (id: number) => ({ params: { path: { project_id: project, user_id: id } } });
  const remove = (id: number) =>
    attempt(async () => {
      await got(api.DELETE("/api/projects/{project_id}/members/{user_id}", of(id)));
      if (id === own?.id) void navigate("/projects");
    });
  return (
    <Modal
      title="Members"
      about={owner ? undefined : "An owner of the project says who works here."}
      open
      onClose={onClose}
      width={520}
    >
      {members.isPending && <Waiting text="Fetching members" />}
      {members.isError && <Message problem={problemOf(members.error)} />}
      <ul className="mb-4 divide-y divide-line border-y border-line">
        {members.data?.map((member) => (
          <li key={member.id} className="flex items-center gap-3 py-2">
            <span className="min-w-0 grow">
              <span className="block truncate text-[13px]">
                {member.name}
                {member.id === own?.id && <span className="text-dim"> (you)</span>}
              </span>
              <span className="block truncate text-[12px] text-dim">
                {member.username}
                {!member.active && ", cannot sign in"}
              </span>
            </span>
            {owner ? (
              <Choose
                label={`Role of ${member.name}`}
                title={MAY[member.role as Role]}
                value={member.role}
                options={ROLES}
                className="w-24"
                onChange={(next) =>
                  void attempt(async () => {
                    await got(
                      api.PUT("/api/projects/{project_id}/members/{user_id}", {
                        ...of(member.id),
                        body: { role: next as Role },
                      }),
                    );
                  })
                }
              />
            ) : (
              <span className="text-[12px] text-dim" title={MAY[member.role as Role]}>
                {member.role}
              </span>
            )}
            {(owner || member.id === own?.id) && (
              <Button
                quiet
                className="w-16"
                title={member.id === own?.id ? "Leave the project" : `Put ${member.name} out of the project`}
                aria-label={member.id === own?.id ? undefined : `Put out ${member.name}`}
                onClick={() => void remove(member.id)}
              >
                {member.id === own?.id ? "Leave" : "Put out"}
              </Button>
            )}
          </li>
        ))}
      </ul>
      {problem && (
        <div className="mb-3">
          <Message problem={problem} />
        </div>
      )}
      {owner && (
        <form onSubmit={add} className="flex items-end gap-2">
          <div className="grow">
            <TextField
              label="Let somebody in, by the name they sign in with"
              list="nexal-candidates"
              required
              maxLength={150}
              value={username}
              onChange={(event) => setUsername(event.target.value)}
            />
            <datalist id="nexal-candidates">
              {candidates.data?.map((each) => (
                <option key={each.username} value={each.username} label={each.name} />
              ))}
            </datalist>
          </div>
          <Choose
            label="Role"
            title={MAY[as]}
            value={as}
            options={ROLES}
            className="h-7 w-24"
            onChange={(next) => setAs(next as Role)}
          />
          <Button main type="submit" className="h-7" disabled={!username.trim()}>
            Let in
          </Button>
        </form>
      )}
    </Modal>
  );
}
