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

/** The frames that are rendered: the first, the last, and every how manieth. */
export interface Span {
  first: number;
  last: number;
  step: number;
}

/** Have frames of a deliverable rendered from the recipe as it is seen; a single file at the first. Throws ApiError. */
export async function startRender(
  shot: number,
  deliverable: number,
  file: string,
  span: Span,
): Promise<void> {
  await savedAsSeen();
  const path = { shot_id: shot, deliverable_id: deliverable };
  const body = isNumbered(file) ? span : { ...span, last: span.first };
  await got(
    api.POST("/api/shots/{shot_id}/deliverables/{deliverable_id}/renders", { params: { path }, body }),
  );
}

/** Whether a file name has a place for a frame's number. */
export const isNumbered = (file: string) => /%0?\d*d|#/.test(file);

/** What a matte is called as a channel of a file, beside those that are there. */
export function channelName(address: string, taken: string[]): string {
  const base = address.replaceAll(/[^\w]+/g, "_") || "matte";
  let name = base;
  for (let number = 2; taken.includes(name); number++) name = `${base}_${number}`;
  return name;
}
