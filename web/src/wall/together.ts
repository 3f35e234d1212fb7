import { type Recipe, findStep, freeName, insertAfter, setSetting } from "@/api/recipe";

const PLACES = ["R", "G", "B"];

/** The channels of a picture that was put together from single channels, in order, or null where it is another. */
function partsOf(recipe: Recipe, item: string | null): string[] | null {
  const step = item ? findStep(recipe, item) : undefined;
  if (step?.op !== "route" || Object.keys(step.in ?? {}).length) return null;
  const to = (step.set?.to ?? {}) as Record<string, { from?: string }>;
  if (!Object.keys(to).every((name) => PLACES.includes(name))) return null;
  return PLACES.flatMap((name) => to[name]?.from ?? []);
}

const routes = (parts: string[]) =>
  Object.fromEntries(parts.map((from, index) => [PLACES[index]!, { from }]));

/**
 * The recipe with a picture of the channels that are shown and one more, whatever files they are of: as a step of its
 * own, or in the one that is in focus where that is such a picture. A channel that is in it already leaves it. Null
 * where there is nothing to put the channel together with.
 */
export function together(
  recipe: Recipe,
  item: string | null,
  shown: string[],
  added: string,
): [Recipe, string] | null {
  const before = partsOf(recipe, item);
  if (before && item) {
    const without = before.filter((part) => part !== added);
    const parts = without.length < before.length ? without : [...before, added].slice(-PLACES.length);
    return parts.length ? [setSetting(recipe, item, "to", routes(parts)), item] : null;
  }
  const parts = [...shown.filter((part) => part !== added), added].slice(-PLACES.length);
  if (parts.length < 2) return null;
  const step = { name: freeName(recipe, "together"), op: "route", set: { to: routes(parts) } };
  return [insertAfter(recipe, step, null), step.name];
}
