import { useQuery, useQueryClient } from "@tanstack/react-query";

import { api, got } from "@/api/client";

import type { Finish, Layout } from "./packs";

const keyOf = (project: number) => ["packing", project];

/** The layouts and finishes that a project has, the program's own among them. */
export function usePacking(project: number) {
  return useQuery({
    queryKey: keyOf(project),
    queryFn: () =>
      got(api.GET("/api/projects/{project_id}/packing", { params: { path: { project_id: project } } })),
    staleTime: 60_000,
  });
}

/** Puts other layouts and finishes in the place of the project's own. */
export function useKeepPacking(project: number) {
  const client = useQueryClient();
  return async (layouts: Layout[], finishes: Finish[]) => {
    const own = <T extends { own: boolean }>(rows: T[]) =>
      rows.filter((row) => row.own).map(({ own: _, ...row }) => row);
    const kept = await got(
      api.PUT("/api/projects/{project_id}/packing", {
        params: { path: { project_id: project } },
        body: { layouts: own(layouts), finishes: own(finishes) },
      }),
    );
    client.setQueryData(keyOf(project), kept);
  };
}
