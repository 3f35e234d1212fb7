import { type RevisionWhole, api, got } from "@/api/client";
import type { Recipe } from "@/api/recipe";

export type Way = "undo" | "redo";

/** What the draft asks of the server. */
export interface Server {
  save: (shot: number, parent: number, recipe: Recipe) => Promise<RevisionWhole>;
  move: (shot: number, way: Way, head: number) => Promise<RevisionWhole>;
  head: (shot: number) => Promise<RevisionWhole>;
}

export const server: Server = {
  save: (shot, parent, recipe) =>
    got(
      api.POST("/api/shots/{shot_id}/revisions", {
        params: { path: { shot_id: shot } },
        body: { parent, recipe: recipe as unknown as Record<string, unknown> },
      }),
    ),
  move: (shot, way, head) =>
    got(api.POST(`/api/shots/{shot_id}/${way}`, { params: { path: { shot_id: shot } }, body: { head } })),
  head: async (shot) =>
    (await got(api.GET("/api/shots/{shot_id}", { params: { path: { shot_id: shot } } }))).head,
};
