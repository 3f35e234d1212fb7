import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";

import { api, got } from "@/api/client";

const [AGAIN_MS, LATER_MS, LOOKS] = [2000, 5000, 4];

/** Shots that are still being drawn, as those of the demo are at its first start: cards without a picture yet. */
export function Coming({ project }: { project: number }) {
  const client = useQueryClient();
  const answer = useQuery({
    queryKey: ["coming", project],
    queryFn: () =>
      got(api.GET("/api/projects/{project_id}/coming", { params: { path: { project_id: project } } })),
    // Who makes them may begin a moment after the page is open.
    refetchInterval: ({ state }) =>
      state.data?.length ? AGAIN_MS : state.dataUpdateCount < LOOKS ? LATER_MS : false,
  });
  const count = answer.data?.length;
  useEffect(() => {
    // One less is one that is there now.
    if (count !== undefined) void client.invalidateQueries({ queryKey: ["shots", project] });
  }, [client, project, count]);
  if (!answer.data?.length) return null;
  const at = answer.data.findIndex((shot) => shot.share < 1);
  return (
    <section aria-label="Being drawn" className="mt-6">
      <h2 role="status" className="mb-2 text-[12px] text-dim">
        {answer.data.length} {answer.data.length === 1 ? "shot is" : "shots are"} still being drawn, slowly,
        so that nothing waits for it
      </h2>
      <ul className="grid grid-cols-[repeat(auto-fill,minmax(220px,1fr))] gap-3">
        {answer.data.map((shot, index) => (
          <li key={shot.name} className="rounded-sm border border-dashed border-line px-3 py-2">
            <span className="block truncate text-[13px] text-dim">{shot.name}</span>
            <span className="mt-1 block h-1 rounded-full bg-well">
              <span
                className="block h-1 rounded-full bg-lichen"
                style={{ width: `${index === at || shot.share >= 1 ? Math.round(100 * shot.share) : 0}%` }}
              />
            </span>
            <span className="mt-1 block font-mono text-[11px] text-faint">
              {shot.share >= 1
                ? "drawn"
                : index === at
                  ? `${Math.round(100 * shot.share)} % drawn`
                  : "to come"}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
