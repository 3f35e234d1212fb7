import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";

import { type ShotRow, api, getForBytes, got, problemOf } from "@/api/client";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";
import { Waiting } from "@/parts/Waiting";
import { readPlanes } from "@/stage/planes";
import { SmallPicture } from "@/stage/SmallPicture";

import { Members } from "./Members";
import { NewName } from "./NewName";
import { PageFrame } from "./PageFrame";

/** A project's shots as a wall of pictures. */
export function Shots() {
  const project = Number(useParams().project);
  const path = { params: { path: { project_id: project } } };
  const about = useQuery({
    queryKey: ["project", project],
    queryFn: () => got(api.GET("/api/projects/{project_id}", path)),
  });
  const shots = useQuery({
    queryKey: ["shots", project],
    queryFn: () => got(api.GET("/api/projects/{project_id}/shots", path)),
  });
  const [making, setMaking] = useState(false);
  const [meeting, setMeeting] = useState(false);
  const navigate = useNavigate();
  const writable = about.data !== undefined && about.data.role !== "viewer";
  const problem = about.error ?? shots.error;
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
        <div className="mb-4 flex items-center justify-between">
          <h1 className="text-[16px] font-semibold">{about.data?.name ?? "Shots"}</h1>
          <span className="flex gap-2">
            {about.data && (
              <Button title="Who works in this project" onClick={() => setMeeting(true)}>
                Members
              </Button>
            )}
            {writable && <Button onClick={() => setMaking(true)}>New shot</Button>}
          </span>
        </div>
        {problem && <Message problem={problemOf(problem)} />}
        {shots.isPending && !problem && <Waiting text="Fetching shots" />}
        {shots.data?.length === 0 && (
          <p className="text-dim">No shots yet. {writable ? "Start one and drop pictures into it." : ""}</p>
        )}
        <ul className="grid grid-cols-[repeat(auto-fill,minmax(270px,1fr))] gap-4">
          {shots.data?.map((shot) => (
            <ShotCard key={shot.id} shot={shot} />
          ))}
        </ul>
      </div>
      {meeting && about.data && (
        <Members project={project} role={about.data.role} onClose={() => setMeeting(false)} />
      )}
      {making && (
        <NewName
          title="New shot"
          example="050 lantern"
          onClose={() => setMaking(false)}
          onMake={async (name) => {
            const made = await got(api.POST("/api/projects/{project_id}/shots", { ...path, body: { name } }));
            void navigate(`/shots/${made.id}`);
          }}
        />
      )}
    </PageFrame>
  );
}

function ShotCard({ shot }: { shot: ShotRow }) {
  const planes = useQuery({
    queryKey: ["shot-picture", shot.id, shot.revision, shot.frame],
    queryFn: async () => {
      const response = await getForBytes(
        `/api/shots/${shot.id}/revisions/${shot.revision}/view/${shot.picture}?scale=4&frame=${shot.frame}`,
      );
      return readPlanes(response);
    },
    enabled: shot.picture !== null,
    retry: false,
  });
  return (
    <li>
      <Link
        to={`/shots/${shot.id}`}
        className="block overflow-hidden rounded-sm border border-line bg-panel hover:border-faint"
      >
        {shot.picture ? (
          <SmallPicture
            planes={planes.data}
            error={planes.error}
            label={`Shot ${shot.name}`}
            className="aspect-video w-full !object-cover"
          />
        ) : (
          <span className="flex aspect-video items-center justify-center bg-well text-[12px] text-dim">
            no pictures yet
          </span>
        )}
        <span className="flex items-baseline justify-between px-3 py-2">
          <span className="truncate text-[13px] font-medium">{shot.name}</span>
          <span className="font-mono text-[11px] text-dim">rev {shot.revision}</span>
        </span>
      </Link>
    </li>
  );
}
