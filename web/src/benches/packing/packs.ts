import type { Item } from "@/api/client";
import {
  type Recipe,
  type Step,
  changeStep,
  findStep,
  freeName,
  portOf,
  stepsOf,
  usersOf,
} from "@/api/recipe";
import type { components } from "@/api/schema";
import type { Meaning } from "@/steps/Meanings";

export type Layout = components["schemas"]["OwnLayout"];
export type Finish = components["schemas"]["OwnFinish"];
export type Port = "r" | "g" | "b" | "a";

export const PORTS: readonly Port[] = ["r", "g", "b", "a"];

/** One layer of a bay: a value or a plane, laid in where its mask covers. */
export interface Bar {
  from?: string;
  value?: number;
  mask?: string;
  invert_mask?: boolean;
  mode?: string;
  opacity?: number;
  on?: boolean;
}

/** A destination channel: what feeds it, and what it stands for. */
export interface Bay {
  port: Port;
  channel: string;
  address: string;
  /** The step that builds it; a channel may be fed from anything else, too. */
  step: Step | undefined;
  meaning: string;
  inverted: boolean;
}

export function packsOf(recipe: Recipe): Step[] {
  return stepsOf(recipe).filter((step) => step.op === "pack");
}

/** The packed texture that an item belongs to: itself, one that it goes into, else the last. */
export function packOf(recipe: Recipe, item: string | null, before: string | null): Step | undefined {
  const packs = packsOf(recipe);
  const own = item ? packs.find((pack) => pack.name === item) : undefined;
  if (own) return own;
  const fed = packs.filter((pack) => item && usersOf(recipe, item).includes(pack.name));
  return (
    fed.find((pack) => pack.name === before) ?? fed[0] ?? packs.find((p) => p.name === before) ?? packs.at(-1)
  );
}

export function baysOf(recipe: Recipe, pack: Step): Bay[] {
  const meanings = (pack.set?.meanings ?? {}) as Partial<Record<Port, Meaning>>;
  return PORTS.flatMap((port) => {
    const address = portOf(pack, port);
    if (!address) return [];
    const step = findStep(recipe, address);
    return [
      {
        port,
        channel: port.toUpperCase(),
        address,
        step: step?.op === "bay" ? step : undefined,
        meaning: meanings[port]?.meaning ?? "",
        inverted: meanings[port]?.inverted ?? false,
      },
    ];
  });
}

export function barsOf(step: Step): Bar[] {
  return (step.set?.layers as Bar[] | undefined) ?? [];
}

export function baseOf(step: Step): number {
  return (step.set?.base as number | undefined) ?? 0;
}

export function withBars(recipe: Recipe, bay: string, change: (bars: Bar[]) => Bar[]): Recipe {
  return changeStep(recipe, bay, (step) => ({
    ...step,
    set: { ...step.set, fit: step.set?.fit ?? "scale", layers: change(barsOf(step)) },
  }));
}

export function withBar(recipe: Recipe, bay: string, index: number, change: Partial<Bar>): Recipe {
  return withBars(recipe, bay, (bars) =>
    bars.map((bar, at) => (at === index ? tidy({ ...bar, ...change }) : bar)),
  );
}

/** A bar without what is not set. */
function tidy(bar: Bar): Bar {
  // A copy, so that what travels along with a bar (its keys) stays with it.
  const kept = { ...bar };
  for (const key of Object.keys(kept) as (keyof Bar)[]) if (kept[key] === undefined) delete kept[key];
  return kept;
}

/** Bars stand with the uppermost first on the screen, and with the undermost first in the recipe. */
export function movedBar(bars: Bar[], from: number, to: number): Bar[] {
  const rest = bars.filter((_, at) => at !== from);
  return [...rest.slice(0, to), bars[from]!, ...rest.slice(to)];
}

/** The value that a bar by a mask begins with: all, or nothing where the bay holds more than half below it. */
export const firstValue = (base: number) => (base < 0.5 ? 1 : 0);

/** A recipe with a bar laid over all others of a bay; what it is fed from has to stand above the bay. */
export function withBarOn(recipe: Recipe, bay: string, bar: Bar): Recipe {
  return withBars(recipe, bay, (bars) => [...bars, bar]);
}

/** Items that a step may be fed from: those above it. */
export function above(items: Item[], name: string): Item[] {
  return items.slice(
    0,
    items.findIndex((item) => item.name === name),
  );
}

/** What a bar does, in a word: by its value against what the base holds. */
export function verbOf(bar: Bar, base: number): string {
  if (bar.from && !bar.mask) return (bar.opacity ?? 1) === 1 ? "kept" : "laid in";
  return (bar.value ?? 1) < base ? "cuts to" : "lays in";
}

/** Meanings without a bay would keep a finish from saying all it has to say. */
export function missingMeanings(recipe: Recipe, pack: Step, finish: Finish): string[] {
  const built = new Set(baysOf(recipe, pack).flatMap((bay) => (bay.step ? [bay.meaning] : [])));
  return Object.keys(finish.values).filter((meaning) => !built.has(meaning));
}

/** The recipe with one more step at its end that shows what becomes of a texture, and its name. */
export function previewed(
  recipe: Recipe,
  pack: string,
  kind: "mip" | "blocks",
  level: number,
): [Recipe, string] {
  const name = freeName(recipe, kind === "mip" ? `mip_${level}` : "in_blocks");
  const step: Step = { name, op: kind, in: { from: pack }, ...(kind === "mip" ? { set: { level } } : {}) };
  return [{ ...recipe, steps: [...stepsOf(recipe), step] }, name];
}

/** Pictures that can be a base colour: those with red, green and blue that are not data. */
export function colouredOf(items: Item[]): string[] {
  return items
    .filter((item) => !item.problem && !item.plane)
    .filter((item) =>
      ["R", "G", "B"].every((name) => item.channels.includes(name) && !item.data.includes(name)),
    )
    .map((item) => item.name);
}

/** What the object is painted with: what was chosen, else the last step that has colour, else the first source. */
export function baseFor(recipe: Recipe, items: Item[], chosen: string | null | undefined): string | null {
  const known = colouredOf(items);
  if (chosen !== undefined) return chosen !== null && known.includes(chosen) ? chosen : null;
  return known.findLast((name) => findStep(recipe, name)) ?? known[0] ?? null;
}
