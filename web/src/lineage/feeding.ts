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
  /** What each channel holds. */
  roles: string[];
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
  const made = Object.keys(MADE).find((role) => MADE[role] === step?.op);
  if (plane) return { name, plane, channels: ["Y"], roles: [made ?? "mask"] };
  if (step?.op === "ink_split")
    return { name, plane, channels: [..."CMYK"], roles: ["ink", "ink", "ink", "ink"] };
  if (made) return { name, plane, channels: ["X", "Y", "Z"], roles: [made, made, made] };
  if (fed && !fed.plane) return { name, plane, channels: fed.channels, roles: fed.roles };
  return { name, plane, channels: ["R", "G", "B"], roles: ["colour", "colour", "colour"] };
}

/** Roles of channels that are no matte, whatever else they are. */
const DATA = ["depth", "position", "normal", "uv", "motion", "id"];
const MATTES = ["alpha", "coverage", "mask"];
const COLOURS = ["colour", "light"];

/** Whether what an address stands for is what a port is meant to be fed with. */
export function fits(
  offers: readonly Pick<Offer, "name" | "plane" | "channels" | "roles">[],
  port: Pick<OperationRow["ports"][number], "role" | "kind">,
  address: string,
): boolean {
  const item = offers.find((entry) => entry.name === itemOf(address));
  if (!item) return false;
  const rest = restOf(address);
  const within = item.channels.flatMap((channel, index) =>
    !rest || channel === rest || channel.startsWith(`${rest}.`) ? [item.roles[index] ?? "unknown"] : [],
  );
  switch (port.role) {
    case "":
      return within.length > 0;
    case "made":
      return false;
    case "matte":
      // What a port of planes takes of a picture is its alpha.
      if (item.plane) return !DATA.includes(within[0] ?? "");
      return within.length === 1 ? MATTES.includes(within[0]!) : !rest && item.channels.includes("A");
    case "colour":
      return !item.plane && within.some((role) => COLOURS.includes(role));
    case "id":
      return within.includes("id");
    default:
      return port.kind === "plane"
        ? within.length === 1 && within[0] === port.role
        : within.filter((role) => role === port.role).length >= 3;
  }
}

const isPlane = (address: string | undefined, fed: Offer | undefined) =>
  Boolean(fed?.plane) || (address !== undefined && (fed?.channels.includes(restOf(address)) ?? false));

/** Addresses of single planes that an item offers, the most useful first. */
function planesOf(item: Offer): string[] {
  if (item.plane) return [item.name];
  return item.channels.map((channel) => `${item.name}.${channel}`);
}

/** What makes a pass that a render did not bring along, by its role. */
const MADE: Record<string, string> = {
  position: "position_from_depth",
  depth: "depth_from_position",
  normal: "normals_from_position",
};
/** Names that files of an empty screen or set go by. */
const CLEAN = /clean|empty|blank|background|(^|_)bg(_|$)/;
/** Names that the render's own picture goes by. */
const WHOLE = /beauty|full|final|comp|combined|rgba?$/;

/** Addresses of a data pass in an item: single channels, or the layers that hold them. */
function passesOf(item: Offer, role: string, kind: string): string[] {
  const channels = item.channels.filter((_, index) => item.roles[index] === role);
  if (item.plane) return channels.length ? [item.name] : [];
  if (kind === "plane") return channels.map((channel) => `${item.name}.${channel}`);
  const layers = channels.map((channel) => channel.split(".").slice(0, -1).join("."));
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

  /** Data passes of a role: of the item in focus, of what it was made of, of any other. */
  passes(role: string, kind: string): string[] {
    const { chosen, recipe, sound } = this;
    const near = chosen ? [chosen.name, ...upstream(recipe, chosen.name)] : [];
    const ordered = [...near.flatMap((name) => sound.filter((entry) => entry.name === name)), ...sound];
    // What was made for it comes before what the render brought along.
    const made = this.newest.filter(
      (entry) => MADE[role] !== undefined && findStep(recipe, entry.name)?.op === MADE[role],
    );
    return [...made.map((entry) => entry.name), ...ordered.flatMap((entry) => passesOf(entry, role, kind))];
  }

  /** The alpha of the source that a data pass comes from. */
  coverage(): string[] {
    const pass = this.passes("depth", "plane")[0] ?? this.passes("position", "picture")[0];
    const source = this.sound.find((entry) => entry.name === itemOf(pass ?? ""));
    return source?.channels.includes("A") ? [`${source.name}.A`] : [];
  }

  /**
   * What fits a port, best first; of one that can be left open only what is clearly meant. A channel that holds
   * something else than the port is meant for is none of it, unless somebody pointed at it.
   */
  fitting(operation: OperationRow, port: OperationRow["ports"][number]): string[] {
    const meant = this.context.alone || this.dragged ? this.pointed() : [];
    return this.candidates(operation, port).filter(
      (address) => meant.includes(address) || fits(this.sound, port, address),
    );
  }

  private candidates(operation: OperationRow, port: OperationRow["ports"][number]): string[] {
    const ofPicture = operation.ports[0]?.kind === "picture";
    if (port.name === "clean" && (!port.required || this.cleanPlates().length)) return this.cleanPlates();
    if (port.name === "like") return port.required ? this.backdrops() : this.chosen ? [this.chosen.name] : [];
    if (PASSES.includes(port.role)) return this.passes(port.role, port.kind);
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
    if (port.kind === "plane") return port.role === "matte" ? this.mattes() : this.planes();
    return port.kind === "any" ? this.anything() : this.pictures();
  }
}

const PASSES = ["depth", "position", "normal", "id"];

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
