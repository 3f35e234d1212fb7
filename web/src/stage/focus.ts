import type { Item } from "@/api/client";
import { type Recipe, addressesOf, findStep, itemOf, sourcesOf } from "@/api/recipe";

/** What stands upstream of an item, nearest first. */
export function upstream(recipe: Recipe, item: string): string[] {
  const order: string[] = [];
  const visit = (name: string) => {
    const step = findStep(recipe, name);
    for (const address of step ? addressesOf(step) : []) {
      const next = itemOf(address);
      if (order.includes(next)) continue;
      order.push(next);
      visit(next);
    }
  };
  visit(item);
  return order;
}

/** The picture that a matte belongs to: the nearest picture with colour upstream, else the first source. */
export function pictureOf(recipe: Recipe, items: Item[], item: string): string | null {
  const known = new Map(items.map((entry) => [entry.name, entry]));
  const isPicture = (name: string) => {
    const entry = known.get(name);
    return entry && !entry.problem && !entry.plane;
  };
  const above = upstream(recipe, item).filter(isPicture);
  return above[0] ?? Object.keys(sourcesOf(recipe)).find(isPicture) ?? null;
}

/** What the stage shows for an item: the picture, and the matte that lies over it, if one does. */
export function matteOver(
  recipe: Recipe,
  items: Item[],
  item: Item | undefined,
): { picture: string; matte: string } | null {
  if (!item || item.problem) return null;
  if (item.plane) {
    const picture = pictureOf(recipe, items, item.name);
    return picture ? { picture, matte: item.name } : null;
  }
  return item.channels.includes("A") ? { picture: item.name, matte: `${item.name}.A` } : null;
}
