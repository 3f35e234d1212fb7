import { type Recipe, type Step, findStep, freeName, itemOf, setPort, sourcesOf } from "@/api/recipe";

/** Other frames that are joined to an empty screen, at the most. */
const JOINED = 3;

/** The source that a step's picture is, if it is one itself: only such a one can be had at another frame as well. */
export function filmedBy(recipe: Recipe, step: Step): string | null {
  const picture = [step.in?.picture].flat()[0];
  const name = picture ? itemOf(picture) : "";
  return picture === name && sourcesOf(recipe)[name] ? name : null;
}

/** Put a source beside another that stands still at one of its frames; the recipe, and its name. */
function heldAt(recipe: Recipe, name: string, frame: number): [Recipe, string] {
  const spec = sourcesOf(recipe)[name]!;
  const number = frame - (spec.offset ?? 0);
  const held = `${name}_at_${frame < 0 ? `minus_${-frame}` : frame}`;
  const known = sourcesOf(recipe)[held];
  if (known?.files === spec.files && known.first === number && known.last === number) return [recipe, held];
  const free = freeName(recipe, held);
  const { before: _before, after: _after, ...rest } = spec;
  return [
    { ...recipe, sources: { ...sourcesOf(recipe), [free]: { ...rest, first: number, last: number } } },
    free,
  ];
}

/** The colours of the subject as they are at a frame, kept for all frames. */
export function holdColours(recipe: Recipe, item: string, frame: number): Recipe {
  const step = findStep(recipe, item);
  const source = step && filmedBy(recipe, step);
  if (!source) return recipe;
  const [next, held] = heldAt(recipe, source, frame);
  return setPort(next, item, "held", held);
}

/** Frames spread over a range, without the one that is looked at. */
export function spread([first, last]: readonly [number, number], frame: number): number[] {
  const places = Array.from({ length: JOINED + 1 }, (_, index) =>
    Math.round(first + ((last - first) * index) / JOINED),
  );
  const nearest = places.reduce((best, place) =>
    Math.abs(place - frame) < Math.abs(best - frame) ? place : best,
  );
  return [...new Set(places)].filter((place) => place !== nearest && place !== frame);
}

/** The empty screen joined with what other frames show of it. */
export function joinFrames(recipe: Recipe, item: string, frames: readonly number[]): Recipe {
  const step = findStep(recipe, item);
  const source = step && filmedBy(recipe, step);
  if (!source) return recipe;
  let next = recipe;
  const others: string[] = [];
  for (const frame of frames) {
    const [with_, name] = heldAt(next, source, frame);
    next = with_;
    others.push(name);
  }
  return setPort(next, item, "others", others);
}
