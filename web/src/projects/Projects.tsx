import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";

import { api, got, problemOf } from "@/api/client";
import type { components } from "@/api/schema";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";
import { MoreButton } from "@/parts/MoreButton";
import { Waiting } from "@/parts/Waiting";
import { useAttempt } from "@/parts/useAttempt";
import { when } from "@/parts/when";

import { NewName } from "./NewName";
import { PageFrame } from "./PageFrame";
import { ShotPicture } from "./ShotPicture";
import { DeleteDialog, DeletedDialog } from "./deletion";

type Card = components["schemas"]["ProjectCard"];
type Asking = { kind: "new" | "deleted" } | { kind: "rename" | "remove"; project: Card };

/** The projects in which one has a role. */
export function Projects() {
  const answer = useQuery({ queryKey: ["projects"], queryFn: () => got(api.GET("/api/projects")) });
  const [asking, setAsking] = useState<Asking | null>(null);
  const [seesAside, setSeesAside] = useState(false);
  const navigate = useNavigate();
  const client = useQueryClient();
  const refresh = () => client.invalidateQueries({ queryKey: ["projects"] });
  const { problem, attempt } = useAttempt(refresh);
  const close = () => setAsking(null);
  const done = async () => {
    close();
    await refresh();
  };
  const rows = answer.data ?? [];
  const aside = rows.filter((project) => project.archived).length;
  const shown = rows.filter((project) => project.archived === seesAside);
  return (
    <PageFrame trail="Projects">
      <div className="mx-auto max-w-5xl">
        <div className="mb-4 flex items-center gap-2">
          <h1 className="grow text-[16px] font-semibold">Projects</h1>
          {(aside > 0 || seesAside) && (
            <Button
              lit={seesAside}
              title="Projects that were put aside"
              onClick={() => setSeesAside(!seesAside)}
            >
              Put aside, {aside}
            </Button>
          )}
          <Button
            quiet
            title="Projects that were deleted and can be recovered"
            onClick={() => setAsking({ kind: "deleted" })}
          >
            Deleted
          </Button>
          <Button onClick={() => setAsking({ kind: "new" })}>New project</Button>
        </div>
        {answer.isPending && <Waiting text="Fetching projects" />}
        {answer.isError && <Message problem={problemOf(answer.error)} />}
        {problem && (
          <div className="mb-3">
            <Message problem={problem} />
          </div>
        )}
        {answer.data?.length === 0 && (
          <p className="text-dim">
            You have no project yet. Start one, or ask the owner of one to let you in.
          </p>
        )}
        {rows.length > 0 && shown.length === 0 && (
          <p className="text-dim">{seesAside ? "None is put aside." : "All projects are put aside."}</p>
        )}
        <ul className="space-y-3">
          {shown.map((project) => (
            <ProjectCard
              key={project.id}
              project={project}
              onRename={() => setAsking({ kind: "rename", project })}
              onRemove={() => setAsking({ kind: "remove", project })}
              onAside={() =>
                void attempt(() =>
                  got(
                    api.PUT("/api/projects/{project_id}", {
                      params: { path: { project_id: project.id } },
                      body: { archived: !project.archived },
                    }),
                  ),
                )
              }
            />
          ))}
        </ul>
      </div>
      {asking?.kind === "new" && (
        <NewName
          title="New project"
          example="Night Conservatory"
          onClose={close}
          onMake={async (name) => {
            const made = await got(api.POST("/api/projects", { body: { name } }));
            void navigate(`/projects/${made.id}`);
          }}
        />
      )}
      {asking?.kind === "rename" && (
        <NewName
          title="Rename the project"
          example="Night Conservatory"
          before={asking.project.name}
          action="Rename"
          onClose={close}
          onMake={async (name) => {
            const params = { path: { project_id: asking.project.id } };
            await got(api.PUT("/api/projects/{project_id}", { params, body: { name } }));
            await done();
          }}
        />
      )}
      {asking?.kind === "remove" && (
        <DeleteDialog
          name={asking.project.name}
          look={() =>
            got(
              api.GET("/api/projects/{project_id}/loss", {
                params: { path: { project_id: asking.project.id } },
              }),
            )
          }
          remove={() =>
            got(
              api.DELETE("/api/projects/{project_id}", {
                params: { path: { project_id: asking.project.id } },
              }),
            )
          }
          onClose={close}
          onDone={done}
        />
      )}
      {asking?.kind === "deleted" && (
        <DeletedDialog
          kind="projects"
          queryKey={["deleted-projects"]}
          fetch={() => got(api.GET("/api/deleted-projects"))}
          recover={(id) =>
            got(api.POST("/api/projects/{project_id}/recovery", { params: { path: { project_id: id } } }))
          }
          onClose={close}
          onRecovered={refresh}
        />
      )}
    </PageFrame>
  );
}

interface CardProps {
  project: Card;
  onRename: () => void;
  onRemove: () => void;
  onAside: () => void;
}

/** The people told by name before the others are counted. */
const TOLD = 4;

function ProjectCard({ project, onRename, onRemove, onAside }: CardProps) {
  const { members, pictures } = project;
  const others = members.length - TOLD;
  const owner = project.role === "owner";
  return (
    <li className="relative rounded-sm border border-line bg-panel focus-within:border-faint hover:border-faint">
      <Link to={`/projects/${project.id}`} className="flex items-stretch gap-4 p-3">
        <span className="grid w-[420px] shrink-0 grid-cols-4 gap-1">
          {pictures.map((picture) => (
            <ShotPicture key={picture.shot} {...picture} scale={8} label={`Shot ${picture.name}`} />
          ))}
          {pictures.length === 0 && (
            <span className="col-span-4 flex h-14 items-center justify-center bg-well text-[12px] text-dim">
              no pictures yet
            </span>
          )}
        </span>
        <span className={`min-w-0 grow ${owner ? "pr-8" : ""}`}>
          <span className="flex items-baseline gap-3">
            <span className="truncate text-[14px] font-medium" title={project.name}>
              {project.name}
            </span>
            <span className="shrink-0 font-mono text-[12px] text-dim">
              {project.shots} {project.shots === 1 ? "shot" : "shots"}
            </span>
          </span>
          <span className="block truncate text-[12px] text-dim" title={members.join(", ")}>
            {members.slice(0, TOLD).join(", ")}
            {others > 0 && ` and ${others} more`}
          </span>
          <span className="block text-[11px] text-faint">
            you are{" "}
            {project.role === "owner" ? "an owner" : project.role === "artist" ? "an artist" : "a viewer"}
            {project.changed && `, last changed ${when(project.changed)}`}
          </span>
        </span>
      </Link>
      {owner && (
        <div className="absolute right-2 top-2">
          <MoreButton
            label={`What to do with ${project.name}`}
            choices={[
              { label: "Rename…", onSelect: onRename },
              { label: project.archived ? "Bring back from aside" : "Put aside", onSelect: onAside },
              { label: "Delete…", danger: true, onSelect: onRemove },
            ]}
          />
        </div>
      )}
    </li>
  );
}
