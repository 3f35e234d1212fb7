/** Settings that move: what they are at a frame, and what becomes of their keys when they are changed there. */
import type { Recipe, Step } from "@/api/recipe";
import { split } from "@/benches/mattes/paths";

export type Way = "linear" | "smooth" | "hold";
export const WAYS: readonly Way[] = ["linear", "smooth", "hold"];

export type Key = [frame: number, value: unknown, way?: Way];
export interface Keyed {
  keys: Key[];
}

export function isKeyed(value: unknown): value is Keyed {
  return (
    typeof value === "object" &&
    value !== null &&
    Array.isArray((value as Keyed).keys) &&
    Object.keys(value).length === 1
  );
}

/** How far a key has gone over into the next at a part t of the way. */
export function passage(way: Way | undefined, t: number): number {
  return way === "hold" ? 0 : way === "smooth" ? t * t * (3 - 2 * t) : t;
}

export const inOrder = (keys: readonly Key[]): Key[] => [...keys].sort((a, b) => a[0] - b[0]);

/** The value of keys at a frame: held before the first and after the last; lists number by number. */
export function valueAt(keys: readonly Key[], frame: number): unknown {
  const ordered = inOrder(keys);
  const after = ordered.findIndex((key) => key[0] > frame);
  if (after === 0) return ordered[0]![1];
  const here = ordered.at(after < 0 ? -1 : after - 1)!;
  if (after < 0) return here[1];
  const there = ordered[after]!;
  return mixed(here[1], there[1], passage(here[2], (frame - here[0]) / (there[0] - here[0])));
}

function mixed(here: unknown, there: unknown, t: number): unknown {
  if (t === 0) return here;
  if (Array.isArray(here) && Array.isArray(there))
    // Points of a path have tangents at one key and none at another: none are of no length.
    return Array.from({ length: Math.max(here.length, there.length) }, (_, index) =>
      mixed(here[index] ?? 0, there[index] ?? 0, t),
    );
  return Number(here) + (Number(there) - Number(here)) * t;
}

/** What an object looks like with its keys; it travels along when the object is spread. */
const ORIGIN = Symbol("with its keys");
type Looked = Record<string, unknown> & { [ORIGIN]?: Record<string, unknown> };

/** Whether a part of an object, seen as it is at a frame, moves: what it is there is not all that it is. */
export const moves = (value: object, name: string) => isKeyed((value as Looked)[ORIGIN]?.[name]);

const isObject = (value: unknown): value is Looked =>
  typeof value === "object" && value !== null && !Array.isArray(value);

/** A path may write its keys beside its points; then they are those of its points. */
function asOwnKeys(value: Record<string, unknown>): Record<string, unknown> {
  if (!Array.isArray(value.keys)) return value;
  const { keys, ...rest } = value;
  return { ...rest, points: { keys } };
}

/**
 * Parts of settings in which nothing moves. Settings are never changed in place, so that of thousands of strokes only
 * the new one is looked through after each change.
 */
const STILL = new WeakSet();

/** A value as it is at a frame; itself where nothing in it moves. */
function looked(value: unknown, frame: number, inPaths = false): unknown {
  if (typeof value !== "object" || value === null || STILL.has(value)) return value;
  const seen = lookedInto(value, frame, inPaths);
  if (seen === value) STILL.add(value);
  return seen;
}

function lookedInto(value: object, frame: number, inPaths: boolean): unknown {
  if (Array.isArray(value)) {
    const found = value.map((inner) => looked(inner, frame, inPaths));
    return found.some((inner, index) => inner !== value[index]) ? found : value;
  }
  if (!isObject(value)) return value;
  if (isKeyed(value) && !inPaths) return valueAt(value.keys, frame);
  const own = inPaths ? asOwnKeys(value) : value;
  let changed = own !== value;
  const result: Looked = {};
  for (const [name, inner] of Object.entries(own)) {
    // A movement's matrices are its own business.
    result[name] = name === "movement" ? inner : looked(inner, frame, name === "paths");
    changed ||= result[name] !== inner;
  }
  if (!changed) return value;
  result[ORIGIN] = own;
  return result;
}

/** A step with its settings as they are at a frame. */
export function stepAt(step: Step, frame: number): Step {
  const set = looked(step.set ?? {}, frame) as Step["set"];
  return set === step.set || !step.set ? step : { ...step, set: set! };
}

/** Each recipe as it was looked at last. */
const SEEN = new WeakMap<Recipe, Recipe>();

/**
 * A recipe as it is looked at, at a frame: what moves is where it is then. Asked again, it is the same object: whoever
 * waits until a recipe stands still sees no change in it.
 */
export function lookedAt(recipe: Recipe, frame: number): Recipe {
  const last = SEEN.get(recipe);
  if (last && (last.at ?? 1) === frame) return last;
  const steps = recipe.steps?.map((step) => stepAt(step, frame));
  const moving = steps?.some((step, index) => step !== recipe.steps![index]);
  const seen = { ...recipe, ...(moving ? { steps: steps! } : {}), ...(frame === 1 ? {} : { at: frame }) };
  SEEN.set(recipe, seen);
  return seen;
}

const same = (a: unknown, b: unknown) => JSON.stringify(a) === JSON.stringify(b);

/** The keys with one at a frame: a new one goes over as the one before it does. */
export function withKey(keys: readonly Key[], frame: number, value: unknown): Key[] {
  const before = inOrder(keys).findLast((key) => key[0] <= frame);
  const way = before?.[2];
  const others = keys.filter((key) => key[0] !== frame);
  return inOrder([...others, way ? [frame, value, way] : [frame, value]]);
}

/**
 * A value that was changed as it is at a frame, with the keys that it had: what moves gets a key there. Itself where
 * nothing in it moves.
 */
function written(value: unknown, frame: number): unknown {
  if (typeof value !== "object" || value === null || STILL.has(value)) return value;
  if (Array.isArray(value)) {
    const list: unknown[] = value.map((inner) => written(inner, frame));
    return list.some((inner, index) => inner !== value[index]) ? list : value;
  }
  if (!isObject(value)) return value;
  const origin = value[ORIGIN];
  const entries = Object.entries(value).map(
    ([name, inner]) => [name, merged(inner, origin?.[name], frame)] as const,
  );
  return origin || entries.some(([name, inner]) => inner !== value[name])
    ? Object.fromEntries(entries)
    : value;
}

function merged(now: unknown, before: unknown, frame: number): unknown {
  if (isKeyed(before)) {
    const was = valueAt(before.keys, frame);
    if (same(now, was)) return before;
    if (isList(now) && isList(was) && now.length !== was.length)
      return { keys: withKey(followed(before.keys, was, now), frame, now) };
    const kind = Array.isArray(was) ? Array.isArray(now) : typeof now === "number";
    // Put in the place of a moving value is a still one only where it is of another kind.
    return kind && lengthsAgree(now, was) ? { keys: withKey(before.keys, frame, now) } : written(now, frame);
  }
  if (Array.isArray(now) && Array.isArray(before) && now.length === before.length)
    return now.map((inner, index) =>
      merged(inner, isKeyed(before[index]) ? before[index] : undefined, frame),
    );
  return written(now, frame);
}

const isList = (value: unknown): value is number[][] =>
  Array.isArray(value) && value.length > 0 && value.every(Array.isArray);

/** Keys of points that follow what was done to the points of one of them: some taken away, or one put between. */
function followed(keys: readonly Key[], was: number[][], now: number[][]): Key[] {
  const at = (points: number[][], index: number) => points[index]?.slice(0, 2).join();
  if (now.length < was.length) {
    let next = 0;
    const stay = was.map((_, index) => {
      const kept = at(was, index) === at(now, next);
      if (kept) next += 1;
      return kept;
    });
    return keys.map(([frame, value, ...way]) => [
      frame,
      (value as number[][]).filter((_, index) => stay[index]),
      ...way,
    ]);
  }
  const place = now.findIndex((_, index) => at(now, index) !== at(was, index));
  return keys.map(([frame, value, ...way]) => {
    const points = value as number[][];
    return [frame, split(points, (place + points.length - 1) % points.length, 0.5), ...way];
  });
}

const lengthsAgree = (a: unknown, b: unknown) =>
  !Array.isArray(a) || !Array.isArray(b) || a.length === b.length;

/** A change made to a recipe as it is at a frame, written into the recipe itself. */
export function changedAt(recipe: Recipe, change: (before: Recipe) => Recipe, frame: number): Recipe {
  const before = lookedAt(recipe, frame);
  const { at: _, ...after } = change(before);
  if (after.steps === before.steps && same({ ...after, steps: 0 }, { ...recipe, steps: 0 })) return recipe;
  if (after.steps === before.steps) return { ...after, steps: recipe.steps ?? [] };
  const own = new Map(before.steps?.map((step, index) => [step, recipe.steps![index]!]));
  const steps = after.steps?.map((step) => {
    const untouched = own.get(step);
    if (untouched) return untouched;
    return step.set ? { ...step, set: written(step.set, frame) as Step["set"] & object } : step;
  });
  return { ...after, ...(steps ? { steps } : {}) };
}

/** Where in a step's settings something moves: the way there, by names and numbers of entries. */
export type Place = (string | number)[];

/** Everything that moves in a step. */
export function movingIn(step: Step | undefined): { place: Place; keys: Key[] }[] {
  const found: { place: Place; keys: Key[] }[] = [];
  const visit = (value: unknown, place: Place, inPaths = false) => {
    if (Array.isArray(value)) value.forEach((inner, index) => visit(inner, [...place, index], inPaths));
    else if (isKeyed(value) && !inPaths) found.push({ place, keys: value.keys });
    else if (isObject(value))
      for (const [name, inner] of Object.entries(inPaths ? asOwnKeys(value) : value))
        if (name !== "movement") visit(inner, [...place, name], name === "paths");
  };
  visit(step?.set ?? {}, []);
  return found;
}

/** A step with what stands at a place in its settings changed. */
export function placed(step: Step, place: Place, change: (value: unknown) => unknown): Step {
  const visit = (value: unknown, rest: Place, inPaths = false): unknown => {
    const [name, ...deeper] = rest;
    if (name === undefined) return change(value);
    if (Array.isArray(value) || (value === undefined && typeof name === "number")) {
      // A list says nothing of those at its end that are as they are anyway.
      const list: unknown[] = [...((value as unknown[] | undefined) ?? [])];
      while (list.length <= Number(name)) list.push({});
      return list.map((inner, index) => (index === name ? visit(inner, deeper, inPaths) : inner));
    }
    const object = (inPaths ? asOwnKeys((value ?? {}) as object as Looked) : (value ?? {})) as Looked;
    const result = { ...object, [name]: visit(object[name], deeper, name === "paths") };
    if (result[name] === undefined) delete result[name];
    return result;
  };
  return { ...step, set: visit(step.set ?? {}, place) as Step["set"] & object };
}

/** The value at a place in a step's settings. */
export function valueIn(step: Step, place: Place): unknown {
  let value: unknown = step.set ?? {};
  let inPaths = false;
  for (const name of place) {
    if (isObject(value) && inPaths) value = asOwnKeys(value);
    value = (value as Record<string | number, unknown> | undefined)?.[name];
    inPaths = name === "paths" || (inPaths && typeof name === "number");
  }
  return value;
}

/** Keys moved in time together; none lands on one that stays: there they stop. */
export function shifted(keys: readonly Key[], taken: readonly number[], by: number): Key[] {
  const moving = keys.filter((key) => taken.includes(key[0]));
  const staying = keys.filter((key) => !taken.includes(key[0]));
  const free = (step: number) => !staying.some((key) => moving.some((other) => other[0] + step === key[0]));
  let step = by;
  while (step !== 0 && !free(step)) step -= Math.sign(step);
  return inOrder([...staying, ...moving.map(([frame, ...rest]) => [frame + step, ...rest] as Key)]);
}

/** The frames that taken keys have come to, once they were shifted. */
export function takenAfter(
  before: readonly Key[],
  taken: readonly number[],
  after: readonly Key[],
): number[] {
  const staying = new Set(before.map((key) => key[0]).filter((frame) => !taken.includes(frame)));
  return after.map((key) => key[0]).filter((frame) => !staying.has(frame));
}

/** Whether a value can move: numbers, and lists of numbers. */
export function canMove(value: unknown): boolean {
  return (
    (typeof value === "number" && Number.isFinite(value)) ||
    (Array.isArray(value) && value.length > 0 && value.every(canMove))
  );
}
