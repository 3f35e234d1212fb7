/** A recipe as the browser edits it: the same JSON that is stored and downloaded. */
export interface SourceSpec {
  files: string;
  /** Of its frames; the first where none is given. */
  version?: number;
  colour?: string;
  read_alpha?: string;
  non_finite?: string;
  depth?: string;
  nothing?: number;
  /** What layers are, by name, where the guess is wrong. */
  roles?: Record<string, string>;
  /** Frames by which it is moved later; the numbers it begins and ends with; what stands where it has no frame. */
  offset?: number;
  first?: number;
  last?: number;
  before?: Beyond;
  after?: Beyond;
  missing?: Missing;
}

export type Beyond = "hold" | "loop" | "black" | "error";
export type Missing = "hold" | "black" | "error";

/** What a port is fed from: an address, or a list of them. */
export type Fed = string | string[];

export interface Step {
  name: string;
  op: string;
  in?: Record<string, Fed>;
  set?: Record<string, unknown>;
  on?: boolean;
  note?: string;
}

export interface Recipe {
  nexal: 1;
  sources?: Record<string, SourceSpec>;
  steps?: Step[];
  outputs?: Record<string, unknown>;
  /** The frame that it is looked at, where that is not the first; no part of what is saved. */
  at?: number;
}

/** A recipe with unsaved changes, as the server is asked about it, at the frame that it is looked at. */
export function drafted({ at, ...recipe }: Recipe): { recipe: Record<string, unknown>; frame: number } {
  return { recipe: recipe as unknown as Record<string, unknown>, frame: at ?? 1 };
}

const KEYS = new WeakMap<Recipe, string>();
/** Keys of the last recipes by their text, the oldest first. */
const TEXTS = new Map<string, string>();
const MOST_TEXTS = 32;
let recipes = 0;

/**
 * A short key of what a recipe says: two that say the same soon after each other have the same. Recipes are never
 * changed in place, so that each is written out once.
 */
export function recipeKey(recipe: Recipe): string {
  const known = KEYS.get(recipe);
  if (known) return known;
  const text = JSON.stringify(recipe);
  const key = TEXTS.get(text) ?? `r${++recipes}`;
  TEXTS.delete(text);
  TEXTS.set(text, key);
  if (TEXTS.size > MOST_TEXTS) TEXTS.delete(TEXTS.keys().next().value!);
  KEYS.set(recipe, key);
  return key;
}

export function itemOf(address: string): string {
  return address.split(".", 1)[0]!;
}

export function restOf(address: string): string {
  return address.slice(itemOf(address).length + 1);
}

export function stepsOf(recipe: Recipe): Step[] {
  return recipe.steps ?? [];
}

export function sourcesOf(recipe: Recipe): Record<string, SourceSpec> {
  return recipe.sources ?? {};
}

export function itemsOf(recipe: Recipe): string[] {
  return [...Object.keys(sourcesOf(recipe)), ...stepsOf(recipe).map((step) => step.name)];
}

export function findStep(recipe: Recipe, name: string): Step | undefined {
  return stepsOf(recipe).find((step) => step.name === name);
}

const ADDRESSES_OF = new WeakMap<Step, readonly string[]>();

/** Addresses that a step names, in its ports and in the `from` of its settings. Steps are never changed in place. */
export function addressesOf(step: Step): readonly string[] {
  const known = ADDRESSES_OF.get(step);
  if (known) return known;
  const addresses = [...Object.values(step.in ?? {}).flat(), ...inSettings(step.set ?? {})];
  ADDRESSES_OF.set(step, addresses);
  return addresses;
}

/** The one address at a port; of a list, none. */
export function portOf(step: Step | undefined, port: string): string | undefined {
  const feed = step?.in?.[port];
  return typeof feed === "string" ? feed : undefined;
}

/** The first address that feeds a step. */
export function firstInput(step: Step | undefined): string | undefined {
  return Object.values(step?.in ?? {}).flat()[0];
}

/** Keys inside of settings that hold addresses. */
const ADDRESSES = new Set(["from", "times", "mask"]);

function inSettings(value: unknown): string[] {
  if (Array.isArray(value)) return value.flatMap(inSettings);
  if (typeof value !== "object" || value === null) return [];
  return Object.entries(value).flatMap(([key, inner]) =>
    ADDRESSES.has(key) && typeof inner === "string" ? [inner] : inSettings(inner),
  );
}

export function usersOf(recipe: Recipe, item: string): string[] {
  return stepsOf(recipe)
    .filter((step) => addressesOf(step).some((address) => itemOf(address) === item))
    .map((step) => step.name);
}

/** Steps below a step that are fed from the item it is fed from first, and could be fed from it instead. */
export function bypassing(recipe: Recipe, name: string): { input: string; users: string[] } | null {
  const input = firstInput(findStep(recipe, name));
  if (!input || usersOf(recipe, name).length) return null;
  const below = stepsOf(recipe).slice(stepsOf(recipe).findIndex((step) => step.name === name) + 1);
  const users = below.filter((step) => addressesOf(step).includes(input)).map((step) => step.name);
  return users.length ? { input, users } : null;
}

/** The recipe with a step put between its first input and everything below that uses it. */
export function putBetween(recipe: Recipe, name: string): Recipe {
  const found = bypassing(recipe, name);
  if (!found) return recipe;
  const steps = stepsOf(recipe).map((step) =>
    found.users.includes(step.name)
      ? readdressed(step, (address) => (address === found.input ? name : address))
      : step,
  );
  return { ...recipe, steps };
}

/** A step with every address changed. */
function readdressed(step: Step, change: (address: string) => string): Step {
  const settings = (value: unknown, key = ""): unknown => {
    if (ADDRESSES.has(key) && typeof value === "string") return change(value);
    if (Array.isArray(value)) return value.map((inner) => settings(inner));
    if (typeof value !== "object" || value === null) return value;
    const changed = Object.entries(value).map(([name, inner]) => [name, settings(inner, name)]);
    // What is not enumerated travels along: the keys of what moves (see `time/keys`).
    return { ...value, ...(Object.fromEntries(changed) as object) };
  };
  const ports = Object.entries(step.in ?? {}).map(([port, feed]) => [
    port,
    Array.isArray(feed) ? feed.map(change) : change(feed),
  ]);
  return {
    ...step,
    ...(step.in ? { in: Object.fromEntries(ports) as Record<string, Fed> } : {}),
    ...(step.set ? { set: settings(step.set) as Record<string, unknown> } : {}),
  };
}

/** A step fed from another item wherever it was fed from one, or from an item wherever it was fed from one address. */
export function fedInstead(step: Step, before: string, now: string): Step {
  return readdressed(step, (address) =>
    address === before ? now : itemOf(address) === before ? now + address.slice(before.length) : address,
  );
}

export function changeStep(recipe: Recipe, name: string, change: (step: Step) => Step): Recipe {
  return { ...recipe, steps: stepsOf(recipe).map((step) => (step.name === name ? change(step) : step)) };
}

export function setSetting(recipe: Recipe, name: string, setting: string, value: unknown): Recipe {
  return changeStep(recipe, name, (step) => {
    const settings = { ...step.set };
    if (value === undefined) delete settings[setting];
    else settings[setting] = value;
    return { ...step, set: settings };
  });
}

export function setPort(recipe: Recipe, name: string, port: string, address: Fed | undefined): Recipe {
  return changeStep(recipe, name, (step) => {
    const ports = { ...step.in };
    if (address === undefined) delete ports[port];
    else ports[port] = address;
    return { ...step, in: ports };
  });
}

export function freeName(recipe: Recipe, wanted: string): string {
  const taken = new Set(itemsOf(recipe));
  const plain = wanted
    .toLowerCase()
    .replace(/[^a-z0-9_]+/g, "_")
    .replace(/^[^a-z]+/, "")
    .slice(0, 50);
  const base = plain || "item";
  let name = base;
  for (let number = 2; taken.has(name); number++) name = `${base}_${number}`;
  return name;
}

/** The recipe with a step put behind an item: behind that step, or before all steps where it is a source. */
export function insertAfter(recipe: Recipe, step: Step, item: string | null): Recipe {
  const steps = stepsOf(recipe);
  const at = item ? steps.findIndex((other) => other.name === item) + 1 : steps.length;
  // Behind a source there may be steps that this one is fed from too: then it goes below them.
  const lowest = Math.max(
    ...addressesOf(step).map((address) => steps.findIndex((s) => s.name === itemOf(address)) + 1),
    at,
  );
  return { ...recipe, steps: [...steps.slice(0, lowest), step, ...steps.slice(lowest)] };
}

/** The recipe with another name for an item, wherever it is named. */
export function rename(recipe: Recipe, from: string, to: string): Recipe {
  const change = (address: string) => (itemOf(address) === from ? to + address.slice(from.length) : address);
  const sources = Object.entries(sourcesOf(recipe)).map(([name, spec]) => [name === from ? to : name, spec]);
  return {
    ...recipe,
    sources: Object.fromEntries(sources) as Record<string, SourceSpec>,
    steps: stepsOf(recipe).map((step) => ({
      ...readdressed(step, change),
      name: step.name === from ? to : step.name,
    })),
    ...(recipe.outputs ? { outputs: outputsOf(recipe.outputs, change) } : {}),
  };
}

function outputsOf(outputs: Record<string, unknown>, change: (address: string) => string) {
  const changed = Object.entries(outputs).map(([name, output]) => {
    const { from } = output as { from: string | Record<string, string> };
    const channels = () => Object.entries(from).map(([channel, address]) => [channel, change(address)]);
    const now = typeof from === "string" ? change(from) : (Object.fromEntries(channels()) as object);
    return [name, { ...(output as object), from: now }];
  });
  return Object.fromEntries(changed) as Record<string, unknown>;
}

export function duplicate(recipe: Recipe, name: string): [Recipe, string] {
  const step = findStep(recipe, name);
  if (!step) return [recipe, name];
  const copy = { ...step, name: freeName(recipe, name) };
  return [insertAfter(recipe, copy, name), copy.name];
}

/** The recipe without an item; users of a deleted step are fed from its first input where `bridge` is set. */
export function remove(recipe: Recipe, name: string, bridge: boolean): Recipe {
  const step = findStep(recipe, name);
  const input = firstInput(step);
  const sources = { ...sourcesOf(recipe) };
  delete sources[name];
  const steps = stepsOf(recipe).filter((other) => other.name !== name);
  const fed =
    bridge && input
      ? steps.map((other) => readdressed(other, (address) => (itemOf(address) === name ? input : address)))
      : steps;
  return { ...recipe, sources, steps: fed };
}

/** What comes into focus when an item goes: the step on its left, else the one on its right, else a source. */
export function neighbourOf(recipe: Recipe, name: string): string | null {
  const steps = stepsOf(recipe).map((step) => step.name);
  const at = steps.indexOf(name);
  const sources = Object.keys(sourcesOf(recipe)).filter((source) => source !== name);
  const beside = at < 0 ? undefined : (steps[at - 1] ?? steps[at + 1]);
  return beside ?? sources[0] ?? steps.find((step) => step !== name) ?? null;
}

/**
 * The places in the order that a step may have: right of everything that feeds it, left of everything that it feeds.
 * Where it stands wrong already, only where it stands.
 */
export function placesFor(
  recipe: Recipe,
  name: string,
): { first: number; last: number; by: [string, string] } {
  const step = findStep(recipe, name);
  const others = stepsOf(recipe).filter((other) => other.name !== name);
  const at = stepsOf(recipe).findIndex((other) => other.name === name);
  const users = new Set(usersOf(recipe, name));
  const feeding = new Set(step ? addressesOf(step).map(itemOf) : []);
  const left = others.findLastIndex((other) => feeding.has(other.name));
  const right = others.findIndex((other) => users.has(other.name));
  const first = left + 1;
  const last = right < 0 ? others.length : right;
  return {
    first: Math.min(first, at),
    last: Math.max(last, at),
    by: [others[left]?.name ?? "", others[right]?.name ?? ""],
  };
}

/** The recipe with a step moved to another place in the order, or as near to it as what it hangs on allows. */
export function move(recipe: Recipe, name: string, wanted: number): Recipe {
  const step = findStep(recipe, name);
  if (!step) return recipe;
  const { first, last } = placesFor(recipe, name);
  const to = Math.min(last, Math.max(first, wanted));
  const others = stepsOf(recipe).filter((other) => other.name !== name);
  return { ...recipe, steps: [...others.slice(0, to), step, ...others.slice(to)] };
}

/** Several steps put behind an item, in order, with free names; those that name each other follow along. */
export function insertSteps(recipe: Recipe, steps: Step[], item: string | null): [Recipe, string] {
  const [next, last] = insertNamed(recipe, steps, item);
  return [next, last];
}

/**
 * The same, and the names that they were given, by those that they had. What they do not hold themselves they are fed
 * from by `instead`, all of it at once: a name of theirs may be an item's of the recipe, too.
 */
export function insertNamed(
  recipe: Recipe,
  steps: readonly Step[],
  item: string | null,
  instead: Readonly<Record<string, string>> = {},
): [Recipe, string, Map<string, string>] {
  let result = recipe;
  let last = item;
  const names = new Map<string, string>();
  for (const step of steps) {
    const name = freeName(result, step.name);
    const named = readdressed(step, (address) => {
      const base = itemOf(address);
      const now = names.get(base) ?? instead[base];
      // A channel that was given stands for whatever channel was wanted.
      if (!now || now.includes(".")) return now || address;
      return now + address.slice(base.length);
    });
    names.set(step.name, name);
    result = insertAfter(result, { ...named, name }, last && findStep(result, last) ? last : null);
    last = name;
  }
  return [result, last ?? "", names];
}
