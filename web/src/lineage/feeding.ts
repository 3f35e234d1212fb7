import type { Item, OperationRow } from "@/api/client";
import { type Feed, type Recipe, type Step, freeName, sourcesOf } from "@/api/recipe";
import { pictureOf } from "@/stage/focus";

interface Context {
  recipe: Recipe;
  items: Item[];
  item: string | null;
  /** Channels shown alone, if any: a plane port takes the first. */
  alone: string[] | null;
}

/** Addresses of single planes that an item offers, the most useful first. */
function planesOf(item: Item): string[] {
  if (item.plane) return [item.name];
  return item.channels.map((channel) => `${item.name}.${channel}`);
}

/** A new step of an operation with every required port fed sensibly from what is in focus. */
export function newStep(operation: OperationRow, context: Context, dragged?: string): Step {
  const { recipe, items } = context;
  const sound = items.filter((entry) => !entry.problem);
  const chosen = sound.find((entry) => entry.name === context.item) ?? sound[0];
  const taken = new Set<string>();
  const ports: Record<string, Feed> = {};
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
    if (!port.required) continue;
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

function defaultRoutes(chosen: Item | undefined): Record<string, unknown> {
  const from = chosen ? (chosen.plane ? chosen.name : `${chosen.name}.${chosen.channels[0]}`) : "";
  return { mask: { from } };
}
