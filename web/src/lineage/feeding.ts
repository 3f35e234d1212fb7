import type { Item, OperationRow } from "@/api/client";
import {
  type Fed,
  type Recipe,
  type Step,
  findStep,
  firstInput,
  freeName,
  itemOf,
  itemsOf,
  restOf,
  sourcesOf,
} from "@/api/recipe";
import { pictureOf } from "@/stage/focus";

interface Context {
  recipe: Recipe;
  /** What the server told of the items so far; of a step just added it has told nothing yet. */
  items: Item[];
  item: string | null;
  /** Channels shown alone, if any: a plane port takes the first. */
  alone: string[] | null;
  operations: OperationRow[];
}

/** What a new step may be fed from. */
interface Offer {
  name: string;
  plane: boolean;
  channels: string[];
}

/** Every item in order: as the server told it, else as far as its recipe tells. */
function offersOf({ recipe, items, item, operations }: Context): Offer[] {
  const known = new Map(items.map((entry) => [entry.name, entry]));
  const made = new Map<string, Offer>();
  for (const name of itemsOf(recipe)) {
    const told = known.get(name);
    if (told && !told.problem) made.set(name, told);
    else if (!told || name === item) made.set(name, foretold(recipe, name, made, operations));
  }
  return [...made.values()];
}

/** An item that nothing is told of yet: by what its operation makes of what it is fed with. */
function foretold(
  recipe: Recipe,
  name: string,
  above: Map<string, Offer>,
  operations: OperationRow[],
): Offer {
  const step = findStep(recipe, name);
  const makes = operations.find((operation) => operation.op === step?.op)?.makes ?? "picture";
  const input = firstInput(step);
  const fed = input ? above.get(itemOf(input)) : undefined;
  const plane = step !== undefined && (makes === "plane" || (makes === "same" && isPlane(input, fed)));
  return { name, plane, channels: plane ? ["Y"] : fed && !fed.plane ? fed.channels : ["R", "G", "B"] };
}

const isPlane = (address: string | undefined, fed: Offer | undefined) =>
  Boolean(fed?.plane) || (address !== undefined && (fed?.channels.includes(restOf(address)) ?? false));

/** Addresses of single planes that an item offers, the most useful first. */
function planesOf(item: Offer): string[] {
  if (item.plane) return [item.name];
  return item.channels.map((channel) => `${item.name}.${channel}`);
}

/** A new step of an operation with every required port fed sensibly from what is in focus. */
export function newStep(operation: OperationRow, context: Context, dragged?: string): Step {
  const { recipe, items } = context;
  const sound = offersOf(context);
  const chosen = sound.find((entry) => entry.name === context.item) ?? sound[0];
  const taken = new Set<string>();
  const ports: Record<string, Fed> = {};
  const pictures = sound.filter((entry) => !entry.plane);
  const mattes = sound.filter((entry) => entry.plane);

  const plane = (): string | undefined => {
    const offers = [
      ...(dragged ? [dragged] : []),
      ...(chosen && context.alone ? context.alone.map((channel) => `${chosen.name}.${channel}`) : []),
      ...(chosen ? planesOf(chosen) : []),
      ...pictures.flatMap(planesOf),
      ...mattes.map((entry) => entry.name),
    ];
    return offers.find((address) => !taken.has(address)) ?? offers[0];
  };
  const picture = (): string | undefined => {
    const own = chosen && !chosen.plane ? chosen.name : chosen && pictureOf(recipe, items, chosen.name);
    const offers = [own, ...Object.keys(sourcesOf(recipe)), ...pictures.map((entry) => entry.name)];
    return offers.find((name): name is string => typeof name === "string" && !taken.has(name));
  };
  const backdrop = (): string | undefined => {
    const names = Object.keys(sourcesOf(recipe)).filter((name) => name !== chosen?.name);
    return names.at(-1) ?? chosen?.name;
  };
  const matte = (): string | undefined => {
    if (dragged) return dragged;
    if (chosen?.plane) return chosen.name;
    return chosen && context.alone ? `${chosen.name}.${context.alone[0]}` : (mattes.at(-1)?.name ?? plane());
  };

  for (const port of operation.ports) {
    // Any channel of a texture may be left out; a new one has red, green and blue.
    if (!port.required && !(operation.op === "pack" && port.name !== "a")) continue;
    const address =
      (operation.op === "attach_alpha" && port.name === "alpha") ||
      (port.name === "matte" && port.kind === "plane") ||
      port.many
        ? matte()
        : port.name === "under"
          ? backdrop()
          : port.kind === "plane"
            ? plane()
            : port.kind === "any" &&
                (dragged ?? (chosen && context.alone ? `${chosen.name}.${context.alone[0]}` : chosen?.name))
              ? (dragged ?? (chosen && context.alone ? `${chosen.name}.${context.alone[0]}` : chosen?.name))
              : picture();
    if (address === undefined) continue;
    ports[port.name] = port.many ? [address] : address;
    taken.add(address);
  }
  if (operation.free_ports && chosen) ports.a = dragged ?? chosen.name;
  const settings: Record<string, unknown> = {};
  if (operation.op === "formula" && chosen)
    settings.expressions = {
      Y: chosen.plane || dragged ? "a" : `a.${(chosen.channels[0] ?? "y").toLowerCase()}`,
    };
  // Whoever builds a texture wants masks of any size to cover it.
  if (operation.op === "bay") settings.fit = "scale";
  if (operation.op === "route") settings.to = defaultRoutes(chosen);
  if (operation.op === "weigh" && chosen && !chosen.channels.includes("G"))
    settings.weights = { [chosen.channels[0] ?? "Y"]: 1 };
  if (operation.ports.some((port) => port.name === "like") && chosen) ports.like = chosen.name;
  return {
    name: freeName(recipe, operation.op),
    op: operation.op,
    in: ports,
    ...(Object.keys(settings).length ? { set: settings } : {}),
  };
}

function defaultRoutes(chosen: Offer | undefined): Record<string, unknown> {
  const from = chosen ? (chosen.plane ? chosen.name : `${chosen.name}.${chosen.channels[0]}`) : "";
  return { mask: { from } };
}
