import { ApiError, type Item, api, got } from "@/api/client";
import { itemOf, restOf } from "@/api/recipe";
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

const COLOURS = ["R", "G", "B", "A"];

/**
 * The channels that an address adds to a file, by their names in it: a channel or a matte itself; of a picture or a layer
 * its red, green, blue and alpha under its name.
 */
export function channelsOf(address: string, items: Item[], there: [string, string][]): [string, string][] {
  const taken = there.map(([name]) => name);
  const item = items.find((entry) => entry.name === itemOf(address));
  const rest = restOf(address);
  if (!item || item.plane || item.channels.includes(rest)) return [[channelName(address, taken), address]];
  const prefix = rest ? `${rest}.` : "";
  const own = COLOURS.filter((last) => item.channels.includes(`${prefix}${last}`));
  // A picture of something else, such as a position, is all of its channels.
  const lasts = own.length
    ? own
    : item.channels.filter((name) => name.startsWith(prefix)).map((name) => name.slice(prefix.length));
  const layers = taken.map((name) => name.split(".").slice(0, -1).join("."));
  const layer = channelName(address, layers);
  return lasts.map((last) => [`${layer}.${last}`, `${item.name}.${prefix}${last}`]);
}
