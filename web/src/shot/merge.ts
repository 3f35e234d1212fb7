import {
  type Recipe,
  type Step,
  addressesOf,
  freeName,
  itemOf,
  itemsOf,
  rename,
  sourcesOf,
  stepsOf,
  usersOf,
} from "@/api/recipe";

/** A place that two people changed otherwise, with what each made of it. */
export interface Clash {
  where: string;
  mine: string;
  theirs: string;
}

export interface Merged {
  recipe: Recipe;
  clashes: Clash[];
}

type Side = "mine" | "theirs";
type Values = Record<string, unknown>;

const same = (a: unknown, b: unknown) => a === b || JSON.stringify(a) === JSON.stringify(b);

/** Words of a place, as it is told: a port or a setting of a step. */
const PARTS = { in: "fed at ", set: "" } as const;
const placeIn = (step: string, part: keyof typeof PARTS, key: string) =>
  `${step}: ${PARTS[part]}${key.replaceAll("_", " ")}`;

/** The step or source that a place belongs to, as it is told itself. */
export const wholeOf = (where: string) => where.split(":", 1)[0]!;

/** A value as it is told, short; what is not there, and what a step or a source is, in words. */
function told(value: unknown): string {
  if (value === undefined) return "taken away, or never there";
  if (isStep(value)) {
    const settings = Object.entries(value.set ?? {}).map(
      ([name, set]) => `${name.replaceAll("_", " ")} ${told(set)}`,
    );
    const text = [value.op.replaceAll("_", " "), ...settings].join(", ");
    return text.length > 60 ? `${text.slice(0, 57)}…` : text;
  }
  if (isSource(value)) return `read from ${value.files}`;
  const text = typeof value === "string" ? value : JSON.stringify(value);
  return text.length > 60 ? `${text.slice(0, 57)}…` : text;
}

const isStep = (value: unknown): value is Step =>
  typeof value === "object" && value !== null && "op" in value && "name" in value;

const isSource = (value: unknown): value is { files: string } =>
  typeof value === "object" && value !== null && "files" in value;

/** The places that differ between two recipes, with what stands there before and now; named as clashes are. */
export function changesOf(before: Recipe, now: Recipe): Map<string, { before: string; now: string }> {
  const found = new Map<string, { before: string; now: string }>();
  const note = (where: string, old: unknown, value: unknown) => {
    if (!same(old, value)) found.set(where, { before: told(old), now: told(value) });
  };
  const [old, own] = [before, now].map((recipe) => new Map(stepsOf(recipe).map((step) => [step.name, step])));
  for (const name of new Set([...old!.keys(), ...own!.keys()])) {
    const [was, is] = [old!.get(name), own!.get(name)];
    // Steps are never changed in place.
    if (was === is) continue;
    if (!was || !is || was.op !== is.op) note(name, was, is);
    else {
      for (const key of ["on", "note"] as const) note(`${name}: ${key}`, was[key], is[key]);
      for (const key of ["in", "set"] as const) {
        const [a, b] = [was, is].map((step) => (step[key] ?? {}) as Values);
        for (const of of new Set([...Object.keys(a!), ...Object.keys(b!)]))
          note(placeIn(name, key, of), a![of], b![of]);
      }
    }
  }
  const [sources, others] = [sourcesOf(before), sourcesOf(now)];
  for (const name of new Set([...Object.keys(sources), ...Object.keys(others)]))
    note(`source ${name}`, sources[name], others[name]);
  return found;
}

/** One value of three, the side that is preferred where both changed it. */
function one(base: unknown, mine: unknown, theirs: unknown, where: string, prefer: Side, clashes: Clash[]) {
  if (same(mine, theirs) || same(base, mine)) return theirs;
  if (same(base, theirs)) return mine;
  clashes.push({ where, mine: told(mine), theirs: told(theirs) });
  return prefer === "mine" ? mine : theirs;
}

/** Settings, ports and the like: key by key. */
function fields(
  base: Values,
  mine: Values,
  theirs: Values,
  where: (key: string) => string,
  prefer: Side,
  clashes: Clash[],
): Values {
  const keys = [...new Set([...Object.keys(theirs), ...Object.keys(mine)])];
  const merged = keys.map((key) => [
    key,
    one(base[key], mine[key], theirs[key], where(key), prefer, clashes),
  ]);
  return Object.fromEntries(merged.filter(([, value]) => value !== undefined)) as Values;
}

function mergedStep(base: Step | undefined, mine: Step, theirs: Step, prefer: Side, clashes: Clash[]): Step {
  const { name } = theirs;
  // Of two operations, neither the ports nor the settings fit together.
  if (mine.op !== theirs.op) return one(base, mine, theirs, name, prefer, clashes) as Step;
  const part = (step: Step | undefined, key: "in" | "set") => (step?.[key] ?? {}) as Values;
  const inner = (key: "in" | "set") =>
    fields(
      part(base, key),
      part(mine, key),
      part(theirs, key),
      (of) => placeIn(name, key, of),
      prefer,
      clashes,
    );
  const flat = (step: Step | undefined) => ({ op: step?.op, on: step?.on, note: step?.note }) as Values;
  const whole = fields(flat(base), flat(mine), flat(theirs), (of) => `${name}: ${of}`, prefer, clashes);
  const ports = inner("in");
  const settings = inner("set");
  return {
    name,
    ...(whole as { op: string }),
    ...(Object.keys(ports).length || theirs.in || mine.in ? { in: ports as Step["in"] & object } : {}),
    ...(Object.keys(settings).length ? { set: settings } : {}),
  };
}

/** Names that both gave to something new of their own: mine gets another one, with all that names it. */
function apart(base: Recipe, mine: Recipe, theirs: Recipe): Recipe {
  const find = (recipe: Recipe, name: string) =>
    sourcesOf(recipe)[name] ?? stepsOf(recipe).find((step) => step.name === name);
  const untouched = (name: string) =>
    same(find(mine, name), find(base, name)) &&
    usersOf(mine, name).every((user) => same(find(mine, user), find(base, user)));
  // A source that one side took away, and a step of the other that bears its name now, are two things as well.
  const together = (name: string) =>
    itemsOf(base).includes(name) &&
    (untouched(name) || name in sourcesOf(mine) === name in sourcesOf(theirs));
  const taken = new Set(itemsOf(theirs));
  return itemsOf(mine)
    .filter((name) => !together(name) && taken.has(name) && !same(find(mine, name), find(theirs, name)))
    .reduce((recipe, name) => {
      const all = { ...recipe, steps: [recipe, theirs, base].flatMap(stepsOf) };
      const sources = { ...sourcesOf(base), ...sourcesOf(theirs), ...sourcesOf(recipe) };
      return rename(recipe, name, freeName({ ...all, sources }, name));
    }, mine);
}

/** The order of the steps: theirs, with what only one side has put behind what it stood behind there. */
function ordered(base: Recipe, mine: Recipe, theirs: Recipe, kept: Set<string>): string[] {
  const names = (recipe: Recipe) =>
    stepsOf(recipe)
      .map((step) => step.name)
      .filter((name) => kept.has(name));
  const common = new Set(names(mine).filter((name) => names(theirs).includes(name)));
  const among = (recipe: Recipe) => names(recipe).filter((name) => common.has(name));
  // Where only one side moved steps, its order holds.
  const mineMoved = same(among(base), among(theirs)) && !same(among(mine), among(theirs));
  const [first, second] = mineMoved ? [names(mine), names(theirs)] : [names(theirs), names(mine)];
  const result = [...first];
  second.forEach((name, index) => {
    if (result.includes(name)) return;
    const before = second.slice(0, index).findLast((other) => result.includes(other));
    result.splice(before ? result.indexOf(before) + 1 : 0, 0, name);
  });
  return result;
}

/**
 * What two people made of one recipe, put together: each setting, port, step, source and output that only one of them
 * changed is as that one made it. What both changed otherwise is a clash, and is as the preferred side made it.
 */
export function merge(base: Recipe, given: Recipe, theirs: Recipe, prefer: Side): Merged {
  const mine = apart(base, given, theirs);
  const clashes: Clash[] = [];
  const byName = (recipe: Recipe) => new Map(stepsOf(recipe).map((step) => [step.name, step]));
  const [old, own, other] = [byName(base), byName(mine), byName(theirs)];
  const steps = new Map<string, Step>();
  for (const name of new Set([...other.keys(), ...own.keys()])) {
    const [before, ours, their] = [old.get(name), own.get(name), other.get(name)];
    if (ours && their) steps.set(name, mergedStep(before, ours, their, prefer, clashes));
    else {
      const left = one(before, ours, their, name, prefer, clashes) as Step | undefined;
      if (left) steps.set(name, left);
    }
  }
  const order = ordered(base, mine, theirs, new Set(steps.keys()));
  const sources = fields(
    sourcesOf(base) as Values,
    sourcesOf(mine) as Values,
    sourcesOf(theirs) as Values,
    (name) => `source ${name}`,
    prefer,
    clashes,
  );
  const outputs = fields(
    base.outputs ?? {},
    mine.outputs ?? {},
    theirs.outputs ?? {},
    (name) => `output ${name}`,
    prefer,
    clashes,
  );
  const recipe: Recipe = {
    ...theirs,
    sources: sources as Recipe["sources"] & object,
    steps: order.map((name) => steps.get(name)!),
    ...(Object.keys(outputs).length ? { outputs } : {}),
  };
  return { recipe: mended(recipe, { base, mine, theirs, prefer, clashes }), clashes };
}

interface Sides {
  base: Recipe;
  mine: Recipe;
  theirs: Recipe;
  prefer: Side;
  clashes: Clash[];
}

/**
 * The recipe in an order that can be computed. What one side took away and the other's change is fed from is told as a
 * clash. Where the preferred side has the step that is fed from it otherwise, the step is as that side made it;
 * else what was taken away is there again, with all that it is fed from in turn. Steps that would feed each other
 * in a circle are as the preferred side made them.
 */
function mended(given: Recipe, sides: Sides): Recipe {
  const preferred = sides[sides.prefer];
  const other = sides.prefer === "mine" ? sides.theirs : sides.mine;
  const settled = new Set<string>();
  let recipe = given;
  for (;;) {
    const missing = firstMissing(recipe, new Set([...itemsOf(sides.mine), ...itemsOf(sides.theirs)]));
    if (!missing) {
      const { sorted, circle } = inOrder(recipe);
      const turned = circle.filter((step) => !settled.has(step.name) && stepIn(preferred, step.name));
      if (!turned.length) return sorted;
      for (const step of turned) {
        settled.add(step.name);
        clash(sides, `${step.name}: fed from`, (side) => inputsOf(stepIn(side, step.name)));
        recipe = withStep(recipe, stepIn(preferred, step.name)!);
      }
      continue;
    }
    const { user, item } = missing;
    const known = (side: Recipe) => itemsOf(side).includes(item);
    clash(sides, `${user}: fed from ${item}`, (side) => (known(side) ? "uses it" : "took it away"));
    const instead = stepIn(preferred, user);
    if (!known(preferred) && instead && !settled.has(user)) {
      settled.add(user);
      recipe = withStep(recipe, instead);
    } else recipe = withItem(recipe, known(preferred) ? preferred : other, item);
  }
}

function clash({ mine, theirs, clashes }: Sides, where: string, told: (side: Recipe) => string) {
  if (!clashes.some((known) => known.where === where))
    clashes.push({ where, mine: told(mine), theirs: told(theirs) });
}

const inputsOf = (step: Step | undefined) => told(step && addressesOf(step).join(", "));

const stepIn = (recipe: Recipe, name: string) => stepsOf(recipe).find((step) => step.name === name);

const withStep = (recipe: Recipe, step: Step): Recipe => ({
  ...recipe,
  steps: stepsOf(recipe).map((old) => (old.name === step.name ? step : old)),
});

/** The recipe with an item of another one that it has not. */
function withItem(recipe: Recipe, from: Recipe, item: string): Recipe {
  const source = sourcesOf(from)[item];
  if (source) return { ...recipe, sources: { ...sourcesOf(recipe), [item]: source } };
  return { ...recipe, steps: [stepIn(from, item)!, ...stepsOf(recipe)] };
}

/** An item of these that something is fed from and that is not there, and what is fed from it. */
function firstMissing(recipe: Recipe, items: Set<string>): { user: string; item: string } | null {
  const known = new Set(itemsOf(recipe));
  const uses = stepsOf(recipe).flatMap((step) => addressesOf(step).map((address) => [step.name, address]));
  for (const [name, output] of Object.entries(recipe.outputs ?? {})) {
    const address = (output as { from?: unknown }).from;
    if (typeof address === "string") uses.push([`output ${name}`, address]);
  }
  const found = uses.find(([, address]) => items.has(itemOf(address!)) && !known.has(itemOf(address!)));
  return found ? { user: found[0]!, item: itemOf(found[1]!) } : null;
}

/** The recipe with every step behind what feeds it, and the steps that feed each other in a circle. */
function inOrder(recipe: Recipe): { sorted: Recipe; circle: Step[] } {
  const inputs = new Map(stepsOf(recipe).map((step) => [step.name, new Set(addressesOf(step).map(itemOf))]));
  const result: Step[] = [];
  let left = stepsOf(recipe);
  for (;;) {
    const waiting = new Set(left.map((step) => step.name));
    const ready = left.find((step) => [...inputs.get(step.name)!].every((item) => !waiting.has(item)));
    if (!ready) break;
    result.push(ready);
    left = left.filter((step) => step !== ready);
  }
  const sorted = { ...recipe, steps: [...result, ...left] };
  // What only waits for a circle is none.
  for (;;) {
    const used = new Set(left.flatMap((step) => [...inputs.get(step.name)!]));
    const circle = left.filter((step) => used.has(step.name));
    if (circle.length === left.length) return { sorted, circle };
    left = circle;
  }
}
