import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";

import { type Problem, type ShotRow, api, got, problemOf } from "@/api/client";
import { Button } from "@/parts/Button";
import { Choose } from "@/parts/Choose";
import { Message } from "@/parts/Message";
import { Waiting } from "@/parts/Waiting";

import { Coming } from "./Coming";
import { Members } from "./Members";
import { NewName } from "./NewName";
import { PageFrame } from "./PageFrame";
import { type CardActions, ShotCard } from "./ShotCard";
import { MoveShot } from "./MoveShot";
import { TagsDialog } from "./TagsDialog";
import { DeleteDialog, DeletedDialog } from "./deletion";
import { GROUPS, type Group, SORTS, type Sort, arranged, freeShotName, tagsOf } from "./wall";

type Asking =
  | { kind: "new" | "members" | "deleted" | "project" }
  | { kind: "rename" | "duplicate" | "tag" | "move" | "remove"; shot: ShotRow };

/** A project's shots as a wall of pictures. */
export function Shots() {
  const project = Number(useParams().project);
  const path = { params: { path: { project_id: project } } };
  const client = useQueryClient();
  const about = useQuery({
    queryKey: ["project", project],
    queryFn: () => got(api.GET("/api/projects/{project_id}", path)),
  });
  const shots = useQuery({
    queryKey: ["shots", project],
    queryFn: () => got(api.GET("/api/projects/{project_id}/shots", path)),
  });
  const [asking, setAsking] = useState<Asking | null>(null);
  const [fault, setFault] = useState<Problem | null>(null);
  const navigate = useNavigate();
  const [params, setParams] = useSearchParams();
  const order = useMemo(
    () => ({
      find: params.get("find") ?? "",
      sort: (params.get("sort") ?? "name") as Sort,
      group: (params.get("group") ?? "none") as Group,
      aside: params.has("aside"),
    }),
    [params],
  );
  const choose = (name: string, value: string) =>
    setParams(
      (before) => {
        const next = new URLSearchParams(before);
        if (value) next.set(name, value);
        else next.delete(name);
        return next;
      },
      { replace: true },
    );
  const writable = about.data !== undefined && about.data.role !== "viewer";
  const problem = about.error ?? shots.error;
  const groups = useMemo(() => arranged(shots.data ?? [], order), [shots.data, order]);
  const aside = shots.data?.filter((shot) => shot.archived).length ?? 0;
  const close = () => setAsking(null);
  const refresh = async () => {
    await Promise.all(
      [["shots"], ["project"], ["projects"]].map((queryKey) => client.invalidateQueries({ queryKey })),
    );
  };
  const done = async () => {
    close();
    await refresh();
  };
  const actions: CardActions | null = writable
    ? {
        rename: (shot) => setAsking({ kind: "rename", shot }),
        duplicate: (shot) => setAsking({ kind: "duplicate", shot }),
        tag: (shot) => setAsking({ kind: "tag", shot }),
        move: (shot) => setAsking({ kind: "move", shot }),
        remove: (shot) => setAsking({ kind: "remove", shot }),
        change: (shot, body) => {
          setFault(null);
          got(api.PUT("/api/shots/{shot_id}", { params: { path: { shot_id: shot.id } }, body }))
            .catch((error: unknown) => setFault(problemOf(error)))
            .finally(() => void refresh());
        },
      }
    : null;
  return (
    <PageFrame
      trail={
        <>
          <Link to="/projects" className="hover:text-text">
            Projects
          </Link>
          <span className="text-faint"> / </span>
          <span className="text-text">{about.data?.name}</span>
        </>
      }
    >
      <div className="mx-auto max-w-6xl">
        <div className="mb-3 flex items-center justify-between gap-4">
          <h1 className="min-w-0 truncate text-[16px] font-semibold">{about.data?.name ?? "Shots"}</h1>
          {about.data && (
            <span className="flex shrink-0 gap-2">
              {about.data.role === "owner" && (
                <Button
                  quiet
                  title="Give the project another name"
                  onClick={() => setAsking({ kind: "project" })}
                >
                  Rename
                </Button>
              )}
              <Button
                quiet
                title="Shots that were deleted and can be recovered"
                onClick={() => setAsking({ kind: "deleted" })}
              >
                Deleted
              </Button>
              <Button title="Who works in this project" onClick={() => setAsking({ kind: "members" })}>
                Members
              </Button>
              {writable && <Button onClick={() => setAsking({ kind: "new" })}>New shot</Button>}
            </span>
          )}
        </div>
        {problem && <Message problem={problemOf(problem)} />}
        {fault && (
          <div className="mb-3">
            <Message problem={fault} />
          </div>
        )}
        {shots.isPending && !problem && <Waiting text="Fetching shots" />}
        {shots.data?.length === 0 && (
          <section
            aria-label="First steps"
            className="mx-auto mt-16 max-w-md rounded-sm border border-line bg-panel p-5"
          >
            <h2 className="mb-2 text-[15px] font-semibold">No shots yet</h2>
            {writable ? (
              <>
                <p className="mb-4 text-[13px] text-dim">
                  A shot is a picture, a render or a range of frames, with all that is made of it. Start one,
                  drop pictures into it, and each of its benches says what to do next.
                </p>
                <Button main onClick={() => setAsking({ kind: "new" })}>
                  Start the first shot
                </Button>
              </>
            ) : (
              <p className="text-[13px] text-dim">Its artists will start them.</p>
            )}
          </section>
        )}
        {shots.data !== undefined && shots.data.length > 0 && (
          <div className="mb-4 flex items-center gap-2">
            <input
              type="search"
              aria-label="Find shots by name or tag"
              title="Find shots by name or tag"
              placeholder="Find by name or tag"
              value={order.find}
              onChange={(event) => choose("find", event.target.value)}
              className="h-6 w-56 rounded-sm border border-line bg-raised px-2 text-[12px] placeholder:text-faint"
            />
            <Choose
              label="Order"
              value={order.sort}
              options={SORTS}
              className="w-40"
              onChange={(next) => choose("sort", next === "name" ? "" : next)}
            />
            <Choose
              label="Groups"
              value={order.group}
              options={GROUPS}
              className="w-32"
              onChange={(next) => choose("group", next === "none" ? "" : next)}
            />
            {(aside > 0 || order.aside) && (
              <Button
                lit={order.aside}
                title="Shots that were put aside"
                onClick={() => choose("aside", order.aside ? "" : "yes")}
              >
                Put aside, {aside}
              </Button>
            )}
          </div>
        )}
        {shots.data !== undefined && shots.data.length > 0 && groups.length === 0 && (
          <p className="text-dim">
            {order.find ? `No shot is called anything like “${order.find}”.` : "All shots are put aside."}
          </p>
        )}
        {groups.map(([title, rows]) => (
          <section key={title} className="mb-6" aria-label={title || "Shots"}>
            {title && <h2 className="mb-2 text-[12px] text-dim">{title}</h2>}
            <ul className="grid grid-cols-[repeat(auto-fill,minmax(270px,1fr))] gap-4">
              {rows.map((shot) => (
                <ShotCard key={shot.id} shot={shot} actions={actions} />
              ))}
            </ul>
          </section>
        ))}
        <Coming project={project} />
      </div>
      {asking?.kind === "members" && about.data && (
        <Members project={project} role={about.data.role} onClose={close} />
      )}
      {asking?.kind === "deleted" && (
        <DeletedDialog
          kind="shots"
          queryKey={["deleted", project]}
          fetch={() => got(api.GET("/api/projects/{project_id}/deleted", path))}
          recover={
            writable
              ? (id) => got(api.POST("/api/shots/{shot_id}/recovery", { params: { path: { shot_id: id } } }))
              : null
          }
          onClose={close}
          onRecovered={refresh}
        />
      )}
      {asking?.kind === "remove" && (
        <DeleteDialog
          name={asking.shot.name}
          look={() =>
            got(api.GET("/api/shots/{shot_id}/loss", { params: { path: { shot_id: asking.shot.id } } }))
          }
          remove={() =>
            got(api.DELETE("/api/shots/{shot_id}", { params: { path: { shot_id: asking.shot.id } } }))
          }
          onClose={close}
          onDone={done}
        />
      )}
      {asking?.kind === "tag" && (
        <TagsDialog shot={asking.shot} known={tagsOf(shots.data ?? [])} onClose={close} onDone={done} />
      )}
      {asking?.kind === "move" && (
        <MoveShot shot={asking.shot} project={project} onClose={close} onDone={done} />
      )}
      {asking?.kind === "project" && (
        <NewName
          title="Rename the project"
          example="Night Conservatory"
          before={about.data?.name}
          action="Rename"
          onClose={close}
          onMake={async (name) => {
            await got(api.PUT("/api/projects/{project_id}", { ...path, body: { name } }));
            await done();
          }}
        />
      )}
      {asking?.kind === "rename" && (
        <NewName
          title={`Rename ${asking.shot.name}`}
          example="050 lantern"
          before={asking.shot.name}
          action="Rename"
          onClose={close}
          onMake={async (name) => {
            const params = { path: { shot_id: asking.shot.id } };
            await got(api.PUT("/api/shots/{shot_id}", { params, body: { name } }));
            await done();
          }}
        />
      )}
      {asking?.kind === "duplicate" && (
        <NewName
          title={`Duplicate ${asking.shot.name}`}
          example="050 lantern"
          before={freeShotName(asking.shot.name, shots.data ?? [])}
          action="Duplicate"
          onClose={close}
          onMake={async (name) => {
            const params = { path: { shot_id: asking.shot.id } };
            await got(api.POST("/api/shots/{shot_id}/copies", { params, body: { name } }));
            await done();
          }}
        />
      )}
      {asking?.kind === "new" && (
        <NewName
          title="New shot"
          example="050 lantern"
          onClose={close}
          onMake={async (name) => {
            const made = await got(api.POST("/api/projects/{project_id}/shots", { ...path, body: { name } }));
            void navigate(`/shots/${made.id}`);
          }}
        />
      )}
    </PageFrame>
  );
}
