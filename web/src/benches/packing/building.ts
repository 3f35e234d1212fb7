import type { Item } from "@/api/client";
import { type Recipe, type Step, changeStep, findStep, freeName, itemOf, stepsOf } from "@/api/recipe";
import type { Meaning } from "@/steps/Meanings";

import { type Finish, type Layout, baysOf, packsOf, withBarOn } from "./packs";

function nameFor(meaning: string): string {
  return meaning.replace(/[^a-z0-9_]/g, "_") || "bay";
}

/** New bays for a layout, each with its default below, and the texture that they are packed into. */
export function started(recipe: Recipe, layout: Layout, like: Item, keep: boolean): [Recipe, string] {
  let next = recipe;
  const ports: Record<string, string> = {};
  const own = like.plane ? [like.name] : like.channels.slice(0, 4).map((name) => `${like.name}.${name}`);
  layout.channels.forEach((channel, index) => {
    const name = freeName(next, nameFor(channel.meaning));
    const kept = keep ? own[index] : undefined;
    const step: Step = {
      name,
      op: "bay",
      in: { like: like.name },
      set: {
        base: channel.default ?? 0,
        fit: "scale",
        layers: kept ? [{ from: kept }] : [],
      },
    };
    next = { ...next, steps: [...stepsOf(next), step] };
    ports[channel.port] = name;
  });
  const name = freeName(next, `packed_${layout.name}`);
  const pack: Step = {
    name,
    op: "pack",
    in: ports,
    set: { layout: layout.name, meanings: meaningsOf(layout) },
  };
  return [{ ...next, steps: [...stepsOf(next), pack] }, name];
}

function meaningsOf(layout: Layout): Record<string, Meaning> {
  return Object.fromEntries(
    layout.channels.map((channel) => [
      channel.port,
      { meaning: channel.meaning, ...(channel.inverted ? { inverted: true } : {}) },
    ]),
  );
}

/**
 * A texture in another layout. Each channel is fed from the bay that held its meaning, here or in another texture of
 * the recipe; for a meaning that there is no bay of, one is made.
 */
export function relaid(recipe: Recipe, pack: string, layout: Layout): Recipe {
  const step = findStep(recipe, pack);
  if (!step) return recipe;
  const known = new Map<string, string>();
  for (const other of [...packsOf(recipe).filter((each) => each.name !== pack), step])
    for (const bay of baysOf(recipe, other))
      if (bay.meaning && isAbove(recipe, itemOf(bay.address), pack)) known.set(key(bay), bay.address);
  const like = baysOf(recipe, step)[0]?.address;
  let next = recipe;
  const ports: Record<string, string> = {};
  for (const channel of layout.channels) {
    const found = known.get(key({ meaning: channel.meaning, inverted: channel.inverted ?? false }));
    if (found) {
      ports[channel.port] = found;
      continue;
    }
    const name = freeName(next, nameFor(channel.meaning));
    const fresh: Step = {
      name,
      op: "bay",
      ...(like ? { in: { like } } : {}),
      set: { base: channel.default ?? 0, fit: "scale", layers: [] },
    };
    const at = stepsOf(next).findIndex((each) => each.name === pack);
    next = { ...next, steps: [...stepsOf(next).slice(0, at), fresh, ...stepsOf(next).slice(at)] };
    ports[channel.port] = name;
  }
  return changeStep(next, pack, (old) => ({
    ...old,
    in: ports,
    set: { ...old.set, layout: layout.name, meanings: meaningsOf(layout) },
  }));
}

const key = (channel: { meaning: string; inverted: boolean }) =>
  `${channel.meaning}${channel.inverted ? " inverted" : ""}`;

function isAbove(recipe: Recipe, item: string, step: string): boolean {
  const places = [item, step].map((name) => stepsOf(recipe).findIndex((each) => each.name === name));
  return places[0]! < places[1]!;
}

/** A finish laid into every bay of a texture whose meaning it settles, where a mask covers. */
export function finished(
  recipe: Recipe,
  pack: Step,
  finish: Finish,
  mask: string | undefined,
  invert: boolean,
): Recipe {
  return baysOf(recipe, pack).reduce((next, bay) => {
    const value = finish.values[bay.meaning];
    if (value === undefined || !bay.step) return next;
    return withBarOn(next, bay.step.name, {
      value: bay.inverted ? Number((1 - value).toFixed(6)) : value,
      ...(mask ? { mask } : {}),
      ...(mask && invert ? { invert_mask: true } : {}),
    });
  }, recipe);
}
