import type { Item } from "@/api/client";
import { type Recipe, type Step, findStep, firstInput, itemOf, stepsOf } from "@/api/recipe";

/** What a shot most likely gives away. */
export interface Proposal {
  from: string;
  kind: "matte" | "picture" | "texture";
  /** Why it is proposed. */
  why: string;
}

/** Ports that a matte is meant for. */
const FOR_MATTES = ["alpha", "matte", "coverage"];

/** Whether a plane is another one of these, changed: it stands below one at its first port, step by step. */
function isMadeOf(recipe: Recipe, step: Step | undefined, items: Set<string>): boolean {
  for (let at = step; at;) {
    const input = firstInput(at);
    if (!input) return false;
    if (items.has(itemOf(input))) return true;
    at = findStep(recipe, itemOf(input));
  }
  return false;
}

/** The packed texture, the last picture with alpha, the last matte: whichever a shot has made, without a fault. */
export function proposalsFor(recipe: Recipe, items: Item[]): Proposal[] {
  const sound = (name: string) => items.find((entry) => entry.name === name && !entry.problem);
  const steps = [...stepsOf(recipe)].reverse().filter((step) => step.on !== false && sound(step.name));
  const texture = steps.find((step) => step.op === "pack");
  const picture = steps.find((step) => {
    const item = sound(step.name)!;
    return !item.plane && item.alpha !== "none" && step.op !== "pack";
  });
  const planes = steps.filter((step) => sound(step.name)!.plane && step.op !== "bay");
  // Of planes those that something takes for its matte, and what is made of them; of these the last, else of all.
  const taken = new Set(
    stepsOf(recipe).flatMap((step) =>
      Object.entries(step.in ?? {})
        .filter(([port]) => FOR_MATTES.includes(port))
        .flatMap(([, feed]) => (Array.isArray(feed) ? feed : [feed]).map(itemOf)),
    ),
  );
  const mattes = planes.filter((step) => taken.has(step.name) || isMadeOf(recipe, step, taken));
  const matte = mattes[0] ?? planes[0];
  const found: Proposal[] = [];
  if (texture) found.push({ from: texture.name, kind: "texture", why: "The packed texture" });
  if (picture) found.push({ from: picture.name, kind: "picture", why: "The last picture with alpha" });
  if (matte) found.push({ from: matte.name, kind: "matte", why: "The last matte" });
  if (!found.length) {
    const last = steps[0] ?? [...items].reverse().find((entry) => !entry.problem);
    if (last)
      found.push({
        from: last.name,
        kind: sound(last.name)?.plane ? "matte" : "picture",
        why: findStep(recipe, last.name) ? "The last step" : "The picture as it came",
      });
  }
  return found;
}
