import { ApiError, api, got, problemOf } from "./client";

/** Who follows what is worked out in the background. */
export interface Going {
  /** Told the part that is done. */
  told?: (done: number) => void;
  stopped?: () => boolean;
}

/**
 * The answer to a question that the server works out in the background: asked again until it is there, or stopped.
 * `page` tells this page's wishes from those of others.
 */
export async function whilePending<T>(
  shot: number,
  page: string,
  ask: () => Promise<T>,
  going: Going = {},
): Promise<T> {
  const path = { shot_id: shot };
  for (;;) {
    try {
      return await ask();
    } catch (error) {
      if (problemOf(error).code !== "pending") throw error;
      const item = /'(.+?)'/.exec(problemOf(error).where)?.[1] ?? "";
      if (going.stopped?.()) {
        await api.DELETE("/api/shots/{shot_id}/slow/{item}", {
          params: { path: { ...path, item }, query: { page } },
        });
        throw new ApiError(202, { code: "stopped", message: "was stopped", where: "", remedy: "" });
      }
      await new Promise((resolve) => setTimeout(resolve, 400));
      const rows = await got(api.GET("/api/shots/{shot_id}/slow", { params: { path } }));
      going.told?.(rows.findLast((row) => row.item === item)?.done ?? 0);
    }
  }
}
