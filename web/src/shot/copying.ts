import { type Recipe, type Step, addressesOf, findStep, itemOf, itemsOf, stepsOf } from "@/api/recipe";

const MOST = 500;

/** Steps as text, as recipes hold them: alone, or with every step that they need, the first needed first. */
export function copied(recipe: Recipe, names: readonly string[], needed: boolean): string | null {
  const wanted = new Set(names.filter((name) => findStep(recipe, name)));
  if (!wanted.size) return null;
  // Steps stand below what they need: from the last up, each brings its own.
  for (const step of [...stepsOf(recipe)].reverse())
    if (needed && wanted.has(step.name)) for (const address of addressesOf(step)) wanted.add(itemOf(address));
  const steps = stepsOf(recipe).filter((step) => wanted.has(step.name));
  return JSON.stringify({ nexal: 1, steps }, null, 1);
}

const isObject = (value: unknown): value is Record<string, unknown> =>
  typeof value === "object" && value !== null && !Array.isArray(value);

function isStep(value: unknown): value is Step {
  if (!isObject(value) || typeof value.name !== "string" || typeof value.op !== "string") return false;
  const ports = value.in ?? {};
  const feeds = isObject(ports) ? Object.values(ports).flat() : [null];
  return feeds.every((feed) => typeof feed === "string") && isObject(value.set ?? {});
}

/** The steps of a text, null where it holds none: what is on the clipboard may be anything. */
export function stepsIn(text: string): Step[] | null {
  if (!text.trimStart().startsWith("{")) return null;
  let data: unknown;
  try {
    data = JSON.parse(text);
  } catch {
    return null;
  }
  if (!isObject(data) || data.nexal !== 1 || !Array.isArray(data.steps)) return null;
  const steps: unknown[] = data.steps;
  if (!steps.length || steps.length > MOST || !steps.every(isStep)) return null;
  return steps;
}

/** Items that steps are fed from and are not themselves. */
export function fedFrom(steps: readonly Step[]): string[] {
  const own = new Set(steps.map((step) => step.name));
  return [...new Set(steps.flatMap(addressesOf).map(itemOf))].filter((name) => !own.has(name));
}

/** Those of them that a recipe does not have. */
export function lacking(recipe: Recipe, steps: readonly Step[]): string[] {
  const there = itemsOf(recipe);
  return fedFrom(steps).filter((name) => !there.includes(name));
}
