import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";

import { api, got, problemOf } from "@/api/client";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";
import { Waiting } from "@/parts/Waiting";

import { NewName } from "./NewName";
import { PageFrame } from "./PageFrame";

/** The projects in which one has a role. */
export function Projects() {
  const answer = useQuery({ queryKey: ["projects"], queryFn: () => got(api.GET("/api/projects")) });
  const [making, setMaking] = useState(false);
  const navigate = useNavigate();
  return (
    <PageFrame trail="Projects">
      <div className="mx-auto max-w-4xl">
        <div className="mb-4 flex items-center justify-between">
          <h1 className="text-[16px] font-semibold">Projects</h1>
          <Button onClick={() => setMaking(true)}>New project</Button>
        </div>
        {answer.isPending && <Waiting text="Fetching projects" />}
        {answer.isError && <Message problem={problemOf(answer.error)} />}
        {answer.data?.length === 0 && (
          <p className="text-dim">
            You have no project yet. Start one, or ask the owner of one to let you in.
          </p>
        )}
        <ul className="divide-y divide-line border-y border-line">
          {answer.data?.map((project) => (
            <li key={project.id}>
              <Link
                to={`/projects/${project.id}`}
                className="grid grid-cols-[1fr_120px_100px] items-baseline gap-4 bg-panel px-3 py-3 hover:bg-raised"
              >
                <span className="truncate text-[14px] font-medium">{project.name}</span>
                <span className="font-mono text-[12px] text-dim">
                  {project.shots} {project.shots === 1 ? "shot" : "shots"}
                </span>
                <span className="text-right text-[12px] text-dim">{project.role}</span>
              </Link>
            </li>
          ))}
        </ul>
      </div>
      {making && (
        <NewName
          title="New project"
          example="Night Conservatory"
          onClose={() => setMaking(false)}
          onMake={async (name) => {
            const made = await got(api.POST("/api/projects", { body: { name } }));
            void navigate(`/projects/${made.id}`);
          }}
        />
      )}
    </PageFrame>
  );
}
