import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";

import { type Problem, api, got } from "@/api/client";
import { type Recipe, drafted } from "@/api/recipe";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";

import { ownView } from "./planes";
import { useView } from "./viewState";

interface Props {
  shot: number;
  recipe: Recipe;
  /** What waits for the step. */
  address: string;
  /** The refusal that names the step that is not computed yet. */
  problem: Problem;
  /** Whether it is shown roughly meanwhile. */
  rough: boolean;
  writable: boolean;
}

/** Tells this page's wishes from those of others: what it wants no more, others may still want. */
const PAGE = ownView("slow");

/** How far a slow step is, with a way to stop it; the stage shows the last picture meanwhile, or what a small copy gives. */
export function SlowNote({ shot, recipe, address, problem, rough, writable }: Props) {
  const client = useQueryClient();
  const step = /'(.+?)'/.exec(problem.where)?.[1] ?? "";
  const [digest, setDigest] = useState<string | null>(null);
  const key = ["slow", shot];
  const rows = useQuery({
    queryKey: key,
    queryFn: () => got(api.GET("/api/shots/{shot_id}/slow", { params: { path: { shot_id: shot } } })),
    refetchInterval: 400,
    gcTime: 0,
  }).data;
  const job = rows?.find((row) => row.digest === digest);
  const start = async () => {
    const started = await got(
      api.POST("/api/shots/{shot_id}/slow", {
        params: { path: { shot_id: shot } },
        body: { ...drafted(recipe), address, page: PAGE },
      }),
    );
    client.setQueryData(key, started.rows);
    setDigest(started.digest);
  };
  // Nothing left to wait for is as good as done.
  const state = digest === "" ? "done" : job?.state;

  // A setting that is still being dragged starts nothing: what stands for a moment does.
  useEffect(() => {
    setDigest(null);
    const timer = setTimeout(() => void start().catch(() => undefined), 500);
    return () => clearTimeout(timer);
    // `start` follows from these.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [shot, recipe, address, step]);
  useEffect(() => {
    if (state !== "done") return;
    useView.getState().change({ arrivals: useView.getState().arrivals + 1 });
    void client.refetchQueries({ predicate: (query) => query.state.status === "error" });
  }, [state, client]);

  if (job?.problem) return <Message problem={job.problem} />;
  const part = Math.round((job?.done ?? 0) * 100);
  return (
    <div role="status" className="w-72 rounded-sm border border-line bg-panel/95 px-3 py-2 text-[12px]">
      <div className="flex items-center justify-between gap-3">
        <span className="truncate">
          {state === "stopped" ? `${step} was stopped` : `Computing ${step} in full resolution`}
        </span>
        <span className="shrink-0 whitespace-nowrap font-mono text-dim">
          {state === "stopped" ? "" : `${part} %`}
        </span>
      </div>
      {state !== "stopped" && (
        <div
          role="progressbar"
          aria-label={`Progress of ${step}`}
          aria-valuenow={part}
          className="mt-2 h-[3px] rounded-full bg-line"
        >
          <div className="h-full rounded-full bg-lichen transition-[width]" style={{ width: `${part}%` }} />
        </div>
      )}
      {rough && <p className="mt-1 text-dim">Seen roughly, from a small copy, until then.</p>}
      {writable && (
        <div className="mt-2 flex gap-2">
          {state === "stopped" ? (
            <Button onClick={() => void start()}>Compute it</Button>
          ) : (
            <Button
              onClick={() =>
                void got(
                  api.DELETE("/api/shots/{shot_id}/slow/{item}", {
                    params: { path: { shot_id: shot, item: step }, query: { page: PAGE } },
                  }),
                ).then((next) => client.setQueryData(key, next))
              }
            >
              Stop
            </Button>
          )}
        </div>
      )}
    </div>
  );
}
