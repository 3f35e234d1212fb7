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
  portOf,
  restOf,
  sourcesOf,
  stepsOf,
} from "@/api/recipe";
import { pictureOf, upstream } from "@/stage/focus";

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
  /** Width and height, where they are known. */
  size?: [number, number];
}

/** Every item in order: as the server told it, else as far as its recipe tells. */
function offersOf({ recipe, items, item, operations }: Context): Offer[] {
  const known = new Map(items.map((entry) => [entry.name, entry]));
  const made = new Map<string, Offer>();
  for (const name of itemsOf(recipe)) {
    const told = known.get(name);
    if (told && !told.problem)
      made.set(name, { ...told, ...(told.display ? { size: [told.display[2]!, told.display[3]!] } : {}) });
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

/** Names that files of an empty screen or set go by. */
/** What makes a pass that a render did not bring along, by the port that it is for. */
const MADE: Record<string, string> = {
  position: "position_from_depth",
  depth: "depth_from_position",
  normals: "normals_from_position",
};
const CLEAN = /clean|empty|blank|background|(^|_)bg(_|$)/;
/** Names that the render's own picture goes by. */
const WHOLE = /beauty|full|final|comp|combined|rgba?$/;

/** Names that the data passes of a render go by, by the port that takes them. */
const PASSES: Record<string, RegExp> = {
  depth: /^(z?depth|z|distance)$/,
  position: /^(p|pos|position|pworld|world)$/,
  normals: /^(n|nrm|normals?)$/,
};

/** Addresses of a data pass in an item: of the one channel of a depth, of the layer of others. */
function passesOf(item: Offer, port: string): string[] {
  const pattern = PASSES[port]!;
  const found = item.channels.filter((channel) =>
    channel
      .toLowerCase()
      .split(".")
      .some((part) => pattern.test(part)),
  );
  if (port === "depth") return found.map((channel) => `${item.name}.${channel}`);
  const layers = found.map((channel) => channel.split(".").slice(0, -1).join("."));
  return [...new Set(layers)].map((layer) => (layer ? `${item.name}.${layer}` : item.name));
}

/** What may feed the ports of a new step, best first. */
class Offers {
  readonly chosen: Offer | undefined;
  private readonly sound: Offer[];
  private readonly recipe: Recipe;

  constructor(
    private readonly context: Context,
    private readonly dragged: string | undefined,
  ) {
    this.recipe = context.recipe;
    this.sound = offersOf(context);
    this.chosen = this.sound.find((entry) => entry.name === context.item) ?? this.sound[0];
  }

  get sources(): string[] {
    return Object.keys(sourcesOf(this.recipe)).filter((name) => this.isPicture(name));
  }

  private get newest(): Offer[] {
    return [...this.sound].reverse();
  }

  private isPicture(name: string): boolean {
    return this.sound.some((entry) => entry.name === name && !entry.plane);
  }

  /** The one plane that was pointed at: dragged, shown alone, or the matte in focus. */
  pointed(): string[] {
    const { chosen, dragged } = this;
    if (dragged) return [dragged];
    if (!chosen) return [];
    if (this.context.alone) return this.context.alone.map((channel) => `${chosen.name}.${channel}`);
    return chosen.plane ? [chosen.name] : [];
  }

  planes(): string[] {
    const pictures = this.sound.filter((entry) => !entry.plane);
    const mattes = this.sound.filter((entry) => entry.plane);
    return [
      ...this.pointed(),
      ...(this.chosen ? planesOf(this.chosen) : []),
      ...pictures.flatMap(planesOf),
      ...mattes.map((entry) => entry.name),
    ];
  }

  mattes(): string[] {
    const newest = this.newest.filter((entry) => entry.plane).map((entry) => entry.name);
    return [...this.pointed(), ...newest, ...this.planes()];
  }

  /** The picture in focus or that the matte in focus belongs to, then sources, then what was made of them. */
  pictures(): string[] {
    const { chosen, recipe } = this;
    const own = chosen?.plane ? pictureOf(recipe, this.context.items, chosen.name) : chosen?.name;
    const others = this.sound.filter((entry) => !entry.plane).map((entry) => entry.name);
    return [...(own ? [own] : []), ...this.sources, ...others];
  }

  anything(): string[] {
    return [...this.pointed(), ...(this.chosen ? [this.chosen.name] : []), ...this.pictures()];
  }

  backdrops(): string[] {
    const over = this.pictures()[0];
    const within = over === undefined ? [] : upstream(this.recipe, over);
    const others = this.sources.filter((name) => name !== over).reverse();
    // What the upper picture was made of is no backdrop of it.
    others.sort((a, b) => Number(within.includes(a)) - Number(within.includes(b)));
    return [...others, ...(this.chosen ? [this.chosen.name] : [])];
  }

  /** The empty screen of the picture: what steps take as that with it, and of a source what is named so. */
  cleanPlates(): string[] {
    const picture = this.pictures()[0];
    const used = stepsOf(this.recipe)
      .filter((step) => portOf(step, "picture") === picture)
      .flatMap((step) => portOf(step, "clean") ?? []);
    const files = sourcesOf(this.recipe);
    const named = this.sources.filter((name) => CLEAN.test(`${name}_${files[name]!.files}`.toLowerCase()));
    const own = picture !== undefined && picture in files ? named : [];
    return [...used.reverse(), ...own].filter((name) => name !== picture);
  }

  /** Pictures that were made, the one in focus first, sums before others. */
  rebuilt(): string[] {
    const made = this.newest.filter((entry) => !entry.plane && findStep(this.recipe, entry.name));
    const sums = made.filter((entry) => findStep(this.recipe, entry.name)?.op === "sum_passes");
    const own = made.filter((entry) => entry.name === this.chosen?.name);
    const names = [...own, ...sums, ...made].map((entry) => entry.name);
    return names.length ? names : this.sources.filter((name) => name !== this.chosen?.name);
  }

  /** The render's own picture of what was rebuilt: a source in focus, one that is named so, or what feeds it. */
  renders(): string[] {
    const { chosen, recipe, sources } = this;
    const above = upstream(recipe, this.rebuilt()[0] ?? "");
    const named = sources.filter((name) => WHOLE.test(name));
    const within = sources.filter((name) => above.includes(name));
    // Separate files of passes feed a sum: then the whole picture is none of them.
    const beside = within.length > 1 ? sources.filter((name) => !above.includes(name)) : [];
    const focus = chosen && sources.includes(chosen.name) ? [chosen.name] : [];
    return [...focus, ...named, ...beside, ...within, ...sources];
  }

  /** Data passes for a port: of the item in focus, of what it was made of, of any other. */
  passes(port: string): string[] {
    const { chosen, recipe, sound } = this;
    const near = chosen ? [chosen.name, ...upstream(recipe, chosen.name)] : [];
    const ordered = [...near.flatMap((name) => sound.filter((entry) => entry.name === name)), ...sound];
    // What was made for it comes before what the render brought along.
    const made = this.newest.filter(
      (entry) => MADE[port] !== undefined && findStep(recipe, entry.name)?.op === MADE[port],
    );
    return [...made.map((entry) => entry.name), ...ordered.flatMap((entry) => passesOf(entry, port))];
  }

  /** The alpha of the source that a data pass comes from. */
  coverage(): string[] {
    const pass = this.passes("depth")[0] ?? this.passes("position")[0];
    const source = this.sound.find((entry) => entry.name === itemOf(pass ?? ""));
    return source?.channels.includes("A") ? [`${source.name}.A`] : [];
  }

  /** What fits a port, best first; of one that can be left open only what is clearly meant. */
  fitting(operation: OperationRow, port: OperationRow["ports"][number]): string[] {
    const ofPicture = operation.ports[0]?.kind === "picture";
    if (port.name === "clean" && (!port.required || this.cleanPlates().length)) return this.cleanPlates();
    if (port.name === "like") return port.required ? this.backdrops() : this.chosen ? [this.chosen.name] : [];
    if (port.name in PASSES) {
      const found = this.passes(port.name);
      return found.length || !port.required ? found : port.kind === "plane" ? this.planes() : this.pictures();
    }
    if (port.name === "coverage") return operation.op === "id_pick" ? [] : this.coverage();
    if (!port.required) {
      // Any channel of a texture may be left out; a new one has red, green and blue.
      if (operation.op === "pack") return port.name === "a" ? [] : this.planes();
      if (operation.op === "route") return this.pictures();
      return port.name === "matte" && ofPicture ? this.pointed() : [];
    }
    if (port.name === "under") return this.backdrops();
    if (port.name === "full") return this.renders();
    if (port.name === "rebuilt") return this.rebuilt();
    if (port.kind === "plane")
      return port.many || ["matte", "alpha"].includes(port.name) ? this.mattes() : this.planes();
    return port.kind === "any" ? this.anything() : this.pictures();
  }
}

/** A new step of an operation with every port fed sensibly from what is in focus, at once. */
export function newStep(operation: OperationRow, context: Context, dragged?: string): Step {
  const offers = new Offers(context, dragged);
  const { chosen } = offers;
  const taken = new Set<string>();
  const ports: Record<string, Fed> = {};
  for (const port of operation.ports) {
    const fitting = offers.fitting(operation, port);
    const address = fitting.find((name) => !taken.has(name)) ?? fitting[0];
    if (address === undefined) continue;
    ports[port.name] = port.many ? [address] : address;
    taken.add(address);
  }
  if (operation.free_ports && chosen) ports.a = dragged ?? chosen.name;
  const settings = firstSettings(operation, offers, dragged);
  return {
    name: freeName(context.recipe, operation.op),
    op: operation.op,
    in: ports,
    ...(Object.keys(settings).length ? { set: settings } : {}),
  };
}

function firstSettings(
  operation: OperationRow,
  offers: Offers,
  dragged: string | undefined,
): Record<string, unknown> {
  const { chosen } = offers;
  // Whoever builds a texture wants masks of any size to cover it.
  if (operation.op === "bay") return { fit: "scale" };
  // Helpers of mattes begin with what the matte at hand asks for.
  if (operation.op === "fine_edge") return { band: "auto", noise: true, guard: true };
  if (operation.op === "despeckle") return { islands: "auto", holes: "auto" };
  if (!chosen) return {};
  if (operation.op === "formula") {
    const channel = `a.${(chosen.channels[0] ?? "y").toLowerCase()}`;
    return { expressions: { Y: chosen.plane || dragged ? "a" : channel } };
  }
  if (operation.op === "route") return { to: { mask: { from: offers.pointed()[0] ?? planesOf(chosen)[0] } } };
  if (operation.op === "cut_window" && chosen.size) return { width: chosen.size[0], height: chosen.size[1] };
  if (operation.op === "weigh" && !chosen.channels.includes("G"))
    return { weights: { [chosen.channels[0] ?? "Y"]: 1 } };
  return {};
}
