import { hashKey } from "@tanstack/react-query";

import {
  type Recipe,
  type Step,
  changeStep,
  fedInstead,
  findStep,
  insertSteps,
  itemOf,
  move,
  setPort,
  sourcesOf,
  stepsOf,
} from "@/api/recipe";

/** What one click does, as its kind reads it. */
export interface Remedy {
  label: string;
  kind: string;
  does: Record<string, unknown>;
}

/** The recipe after a remedy, and what comes into focus. */
type Apply = (before: Recipe, item: string, remedy: Remedy) => [Recipe, string];

const REMEDIES = new Map<string, Apply>();

/** Makes a kind of remedy known; the core's checks name the same kinds. */
export function registerRemedy(kind: string, apply: Apply): void {
  REMEDIES.set(kind, apply);
}

/** Whether a recipe is still the one that something was worked out for, however it is written. */
export const isStill = (judged: Recipe, now: Recipe) =>
  judged === now || hashKey([judged]) === hashKey([now]);

/**
 * A change that was worked out for a recipe: upon another it is none, which keeps the focus where it is. It would take
 * back what was done since, or do the same once more.
 */
export function meantFor(
  judged: Recipe,
  focus: string,
  change: (before: Recipe) => [Recipe, string],
): (before: Recipe) => [Recipe, string] {
  return (before) => (isStill(judged, before) ? change(before) : [before, focus]);
}

/** The recipe after a remedy, and what comes into focus; unchanged where its kind is not known here. */
export function remedied(before: Recipe, item: string, remedy: Remedy): [Recipe, string] {
  return REMEDIES.get(remedy.kind)?.(before, item, remedy) ?? [before, item];
}

const stepsIn = (remedy: Remedy) => (remedy.does.steps ?? []) as Step[];

registerRemedy("insert", (before, item, remedy) => insertSteps(before, stepsIn(remedy), item));

registerRemedy("replace", (before, item, remedy) => [
  changeStep(before, item, (step) => ({ ...step, ...(remedy.does.replace as Partial<Step>) })),
  item,
]);

registerRemedy("change", (before, item, remedy) => [
  Object.entries(remedy.does.change as Record<string, Partial<Step>>).reduce(
    (recipe, [name, change]) => changeStep(recipe, name, (step) => ({ ...step, ...change })),
    before,
  ),
  item,
]);

registerRemedy("feed", (before, item, remedy) => {
  const feed = remedy.does.feed as { port: string; address: string };
  const [added, last] = addedAbove(before, item, stepsIn(remedy));
  return [setPort(added, item, feed.port, last ?? feed.address), item];
});

registerRemedy("instead", (before, item, remedy) => {
  const instead = remedy.does.instead as string;
  const within = (remedy.does.within as string | undefined) ?? item;
  const [added, last] = addedAbove(before, within, stepsIn(remedy), instead);
  return [changeStep(added, within, (step) => fedInstead(step, instead, last!)), item];
});

registerRemedy("lay_back", (before, item, remedy) => {
  const { port, address } = remedy.does.lay_back as { port: string; address: string };
  const place = stepsOf(before).findIndex((step) => step.name === item);
  const later = stepsOf(before)
    .slice(place + 1)
    .map((step) => step.name);
  const [added, last] = insertSteps(before, stepsIn(remedy), item);
  const moved = later.reduce(
    (recipe, name) => changeStep(recipe, name, (step) => fedInstead(step, item, last)),
    added,
  );
  return [setPort(moved, item, port, address), last];
});

const readAs =
  (key: "colour" | "read_alpha"): Apply =>
  (before, item, remedy) => {
    const told = remedy.does[key === "colour" ? "read" : "read_alpha"] as Record<string, string>;
    const sources = Object.entries(sourcesOf(before)).map(([name, spec]) => [
      name,
      told[name] ? { ...spec, [key]: told[name] } : spec,
    ]);
    return [{ ...before, sources: Object.fromEntries(sources) as Recipe["sources"] & object }, item];
  };

registerRemedy("read", readAs("colour"));
registerRemedy("read_alpha", readAs("read_alpha"));

/** The recipe with steps put behind an item (or as low as can be) and above a step; the name of the last. */
function addedAbove(
  before: Recipe,
  below: string,
  steps: Step[],
  behind: string | null = null,
): [Recipe, string | undefined] {
  if (!steps.length) return [before, undefined];
  const place = stepsOf(before).findIndex((step) => step.name === below);
  const [added, last] = insertSteps(before, steps, behind && itemOf(behind));
  const names = stepsOf(added).filter((step) => !findStep(before, step.name));
  return [names.reduce((recipe, step, index) => move(recipe, step.name, place + index), added), last];
}
