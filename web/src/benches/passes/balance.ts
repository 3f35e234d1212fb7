import { type Item, api, got } from "@/api/client";
import { type Going, whilePending } from "@/api/pending";
import {
  type Recipe,
  type Step,
  changeStep,
  drafted,
  findStep,
  freeName,
  insertAfter,
  itemOf,
  restOf,
  sourcesOf,
} from "@/api/recipe";
import { ownView } from "@/stage/planes";
import { moves } from "@/time/keys";

/** How one pass goes into the sum; what is left out is as it is. */
export interface Balance {
  stops?: number;
  tint?: [number, number, number];
  mute?: boolean;
  solo?: boolean;
  times?: string;
}

export const PLAIN: [number, number, number] = [1, 1, 1];

export function passesOf(step: Step | undefined): string[] {
  return step?.op === "sum_passes" ? [step.in?.passes ?? []].flat() : [];
}

/** One balance for each pass, in order. */
export function balancesOf(step: Step): Balance[] {
  const given = (step.set?.passes ?? []) as Balance[];
  return passesOf(step).map((_, index) => given[index] ?? {});
}

/** A balance without what is as it is anyway, so that the recipe says only what was changed; what moves stays. */
function tidy(balance: Balance): Balance {
  // A copy, so that what travels along with a balance (its keys) stays with it.
  const kept = { ...balance };
  if (!kept.stops && !moves(kept, "stops")) delete kept.stops;
  if (!moves(kept, "tint") && kept.tint?.every((part) => part === 1)) delete kept.tint;
  for (const key of ["mute", "solo", "times"] as const) if (!kept[key]) delete kept[key];
  return kept;
}

/** The recipe with some passes of a sum balanced otherwise. */
export function balanced(recipe: Recipe, name: string, changes: Map<number, Partial<Balance>>): Recipe {
  return changeStep(recipe, name, (step) => {
    const passes = balancesOf(step).map((old, index) => tidy({ ...old, ...changes.get(index) }));
    const { passes: _, ...rest } = step.set ?? {};
    return { ...step, set: passes.some((each) => Object.keys(each).length) ? { ...rest, passes } : rest };
  });
}

/** The recipe without a pass of a sum. */
export function without(recipe: Recipe, name: string, index: number): Recipe {
  return changeStep(recipe, name, (step) => ({
    ...step,
    in: { ...step.in, passes: passesOf(step).filter((_, at) => at !== index) },
    set: { ...step.set, passes: balancesOf(step).filter((_, at) => at !== index) },
  }));
}

/** The recipe with a pass more in a sum. */
export function withPass(recipe: Recipe, name: string, address: string): Recipe {
  return changeStep(recipe, name, (step) => ({
    ...step,
    in: { ...step.in, passes: [...passesOf(step), address] },
  }));
}

/** Passes by the layer that they lie in: `render.diffuse.key` and `render.diffuse.fill` belong to `diffuse`. */
export function groupsOf(passes: string[]): Map<string, number[]> {
  const groups = new Map<string, number[]>();
  passes.forEach((address, index) => {
    const parts = restOf(address).split(".");
    const group = parts.slice(0, -1).join(".");
    if (group) groups.set(group, [...(groups.get(group) ?? []), index]);
  });
  return new Map([...groups].filter(([, members]) => members.length > 1));
}

/** The last part of a pass's name; where a whole item is added, its name. */
export function shortName(address: string): string {
  return restOf(address).split(".").pop() || itemOf(address);
}

/** Sums of the same passes: other balances of one render. */
export function othersLike(recipe: Recipe, step: Step): Step[] {
  const own = passesOf(step).join(" ");
  return (recipe.steps ?? []).filter(
    (other) => other.name !== step.name && other.op === "sum_passes" && passesOf(other).join(" ") === own,
  );
}

/** The balance kept under a name, as a step of its own behind the sum. */
export function keepAs(recipe: Recipe, name: string, wanted: string): [Recipe, string] {
  const step = findStep(recipe, name);
  if (!step) return [recipe, name];
  const kept = { ...step, name: freeName(recipe, wanted) };
  return [insertAfter(recipe, kept, name), kept.name];
}

/** Layers with red, green and blue that hold colour; the picture itself is the layer without a name. */
export function lightLayers(picture: Item): string[] {
  const colour = picture.channels.filter((name) => !picture.data.includes(name));
  const layers = [...new Set(colour.map((name) => name.split(".").slice(0, -1).join(".")))];
  return layers.filter((layer) =>
    ["R", "G", "B"].every((last) => colour.includes(layer ? `${layer}.${last}` : last)),
  );
}

/** The picture whose passes can be added up: the item in focus or the first source with several layers of colour. */
export function renderOf(recipe: Recipe, items: Item[], item: string | null): Item | undefined {
  const layered = (entry: Item) => !entry.problem && lightLayers(entry).length > 1;
  const own = items.find((entry) => entry.name === item);
  if (own && layered(own)) return own;
  const sources = Object.keys(sourcesOf(recipe));
  return items.find((entry) => sources.includes(entry.name) && layered(entry));
}

/** What is asked of the server to find which pictures add up to which, or to the layer `full` of one. */
export async function audited(
  shot: number,
  recipe: Recipe,
  address: string,
  full: string | null,
  going: Going = {},
) {
  // Many layers are worked out in the background.
  return whilePending(
    shot,
    PAGE,
    () =>
      got(
        api.POST("/api/shots/{shot_id}/audit", {
          params: { path: { shot_id: shot } },
          body: { ...drafted(recipe), address, full, page: PAGE },
        }),
      ),
    going,
  );
}

/** Tells this page's wishes from those of others. */
const PAGE = ownView("audit");

/** What a sum can be made of: the layers of a render, else the sources that are a picture each. */
export function addable(recipe: Recipe, items: Item[], render: Item | undefined): string[] {
  if (render) {
    const layers = lightLayers(render).filter((layer) => layer !== "");
    return layers.map((layer) => `${render.name}.${layer}`);
  }
  const sources = Object.keys(sourcesOf(recipe));
  return items
    .filter((entry) => sources.includes(entry.name) && !entry.problem && lightLayers(entry).includes(""))
    .map((entry) => entry.name);
}
