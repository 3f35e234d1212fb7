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

const same = (a: unknown, b: unknown) => JSON.stringify(a) === JSON.stringify(b);

/** A value as it is told, short. */
function told(value: unknown): string {
  if (value === undefined) return "not there";
  const text = typeof value === "string" ? value : JSON.stringify(value);
  return text.length > 60 ? `${text.slice(0, 57)}…` : text;
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
  const part = (step: Step | undefined, key: "in" | "set") => (step?.[key] ?? {}) as Values;
  const inner = (key: "in" | "set", word: string) =>
    fields(
      part(base, key),
      part(mine, key),
      part(theirs, key),
      (of) => `${name}: ${word}${of.replaceAll("_", " ")}`,
      prefer,
      clashes,
    );
  const flat = (step: Step | undefined) => ({ op: step?.op, on: step?.on, note: step?.note }) as Values;
  const whole = fields(flat(base), flat(mine), flat(theirs), (of) => `${name}: ${of}`, prefer, clashes);
  const ports = inner("in", "fed at ");
  const settings = inner("set", "");
  return {
    name,
    ...(whole as { op: string }),
    ...(Object.keys(ports).length || theirs.in || mine.in ? { in: ports as Step["in"] & object } : {}),
    ...(Object.keys(settings).length ? { set: settings } : {}),
  };
}

/** Names that both gave to something new of their own: mine gets another one, with all that names it. */
function apart(base: Recipe, mine: Recipe, theirs: Recipe): Recipe {
  const old = new Set(itemsOf(base));
  const find = (recipe: Recipe, name: string) =>
    sourcesOf(recipe)[name] ?? stepsOf(recipe).find((step) => step.name === name);
  const taken = new Set(itemsOf(theirs));
  return itemsOf(mine)
    .filter((name) => !old.has(name) && taken.has(name) && !same(find(mine, name), find(theirs, name)))
    .reduce((recipe, name) => {
      const all = { ...recipe, steps: [...stepsOf(recipe), ...stepsOf(theirs)] };
      const both = { ...all, sources: { ...sourcesOf(theirs), ...sourcesOf(recipe) } };
      return rename(recipe, name, freeName(both, name));
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
  return { recipe: sorted(restored(recipe, base, mine, theirs, prefer, clashes)), clashes };
}

/**
 * The recipe with what one side took away and the other side's change names: told as a clash, and there again where the
 * preferred side has it.
 */
function restored(
  recipe: Recipe,
  base: Recipe,
  mine: Recipe,
  theirs: Recipe,
  prefer: Side,
  clashes: Clash[],
): Recipe {
  const known = new Set(itemsOf(recipe));
  const preferred = prefer === "mine" ? mine : theirs;
  const back: Step[] = [];
  for (const step of stepsOf(recipe))
    for (const address of addressesOf(step)) {
      const item = itemOf(address);
      if (known.has(item) || !itemsOf(base).includes(item)) continue;
      const told = (side: Recipe) => (itemsOf(side).includes(item) ? "uses it" : "took it away");
      clashes.push({ where: `${step.name}: fed from ${item}`, mine: told(mine), theirs: told(theirs) });
      const gone = stepsOf(preferred).find((other) => other.name === item);
      if (gone && !back.includes(gone)) back.push(gone);
    }
  return { ...recipe, steps: [...back, ...stepsOf(recipe)] };
}

/** The recipe with every step behind what feeds it. */
function sorted(recipe: Recipe): Recipe {
  const known = new Set(itemsOf(recipe));
  const done = new Set(Object.keys(sourcesOf(recipe)));
  const left = [...stepsOf(recipe)];
  const result: Step[] = [];
  while (left.length) {
    const ready = left.findIndex((step) =>
      addressesOf(step).every((address) => !known.has(itemOf(address)) || done.has(itemOf(address))),
    );
    const [step] = left.splice(Math.max(0, ready), 1);
    result.push(step!);
    done.add(step!.name);
  }
  return { ...recipe, steps: result };
}
