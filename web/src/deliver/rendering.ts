import { ApiError, api, got } from "@/api/client";
import { useDraft } from "@/shot/draft";

/** Waits until the recipe is saved as it is seen: what is rendered is what the server has. Throws ApiError. */
export async function savedAsSeen(): Promise<void> {
  if (await useDraft.getState().finished()) return;
  throw new ApiError(409, {
    code: "unsaved",
    message: "your last change is not saved yet, and would be missing in the file",
    where: "",
    remedy: "wait until it is saved, then render again",
  });
}

/** Have a deliverable rendered from the recipe as it is seen. Throws ApiError. */
export async function startRender(shot: number, deliverable: number): Promise<void> {
  await savedAsSeen();
  const path = { shot_id: shot, deliverable_id: deliverable };
  await got(api.POST("/api/shots/{shot_id}/deliverables/{deliverable_id}/renders", { params: { path } }));
}
