import { type RevisionWhole, api, got } from "@/api/client";
import type { Recipe } from "@/api/recipe";

export type Way = "undo" | "redo";

/** The recipe that was restored last, as it goes to the server, and the revision that it is: the history tells of it. */
let restored: { recipe: string; number: number } | null = null;

export function restoring(recipe: Recipe, number: number): void {
  restored = { recipe: JSON.stringify(recipe), number };
}

const restores = (recipe: Recipe) =>
  restored && JSON.stringify(recipe) === restored.recipe ? { restores: restored.number } : {};

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
        body: { parent, recipe: recipe as unknown as Record<string, unknown>, ...restores(recipe) },
      }),
    ),
  move: (shot, way, head) =>
    got(api.POST(`/api/shots/{shot_id}/${way}`, { params: { path: { shot_id: shot } }, body: { head } })),
  head: async (shot) =>
    (await got(api.GET("/api/shots/{shot_id}", { params: { path: { shot_id: shot } } }))).head,
};
