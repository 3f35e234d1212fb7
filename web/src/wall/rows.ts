import type { Item, SourceRow, SourceWhole } from "@/api/client";
import { type Recipe, sourcesOf } from "@/api/recipe";

export interface TileOf {
  item: string;
  /** One, or those of a layer that are shown together. */
  channels: string[];
  layer: string;
  data: boolean;
  /** What the tile belongs to, as it is described. */
  known: Item;
}

export type Row =
  | { kind: "heading"; key: string; item: string; layer: string; note: string }
  | { kind: "tiles"; key: string; tiles: TileOf[] };

const FORMAT = (name: string) => (name === "hdr" ? "HDR" : name.toUpperCase());

/** Layer of a channel name: all but its last segment. */
function layerOf(channel: string): string {
  return channel.slice(0, Math.max(0, channel.lastIndexOf(".")));
}

const TOGETHER = [
  ["R", "G", "B"],
  ["X", "Y", "Z"],
  ["U", "V"],
];

/** The channels of a layer that make one picture: its colour, or a vector as colour. */
function togetherOf(channels: string[]): string[] | null {
  const last = channels.map((channel) => channel.slice(channel.lastIndexOf(".") + 1).toUpperCase());
  for (const names of TOGETHER) {
    const found = names.map((name) => channels[last.indexOf(name)]);
    if (found.every((channel) => channel !== undefined)) return found;
  }
  return null;
}

/** Headings and pairs of tiles: the sources of a recipe by layer, then the step in focus; filtered by name or role. */
export function wallRows(
  recipe: Recipe,
  items: Item[],
  sources: SourceRow[],
  wholes: (SourceWhole | undefined)[],
  focus: string | null,
  filter: string,
): Row[] {
  const rows: Row[] = [];
  const wanted = filter.trim().toLowerCase();
  const names = Object.keys(sourcesOf(recipe));
  const shown = focus && !names.includes(focus) ? [focus, ...names] : names;
  for (const name of shown) {
    const item = items.find((entry) => entry.name === name);
    if (!item || item.problem) continue;
    const spec = sourcesOf(recipe)[name];
    const source = spec && sources.find((row) => row.files === spec.files);
    const whole = source && wholes.find((entry) => entry?.id === source.id);
    const roles = new Map(whole?.channel_rows.map((row) => [row.name, row.role]));
    const layerRoles = new Map(whole?.layers.map((row) => [row.name, row.role]));
    const data = new Set(item.data);
    const layers = new Map<string, string[]>();
    for (const channel of item.channels) {
      const layer = layerOf(channel);
      const role = spec?.roles?.[layer] ?? roles.get(channel) ?? "";
      const matches =
        !wanted || `${name}.${channel}`.toLowerCase().includes(wanted) || role.toLowerCase().includes(wanted);
      if (!matches) continue;
      const others = layers.get(layer);
      if (others) others.push(channel);
      else layers.set(layer, [channel]);
    }
    for (const [layer, channels] of layers) {
      const size = item.display ? `${item.display[2]}×${item.display[3]}` : "";
      const type = whole?.channel_rows[0]?.type ?? "";
      const role = spec?.roles?.[layer] ?? layerRoles.get(layer) ?? "";
      const note = layer
        ? role
        : source
          ? `${FORMAT(source.format)} ${type} ${size}`
          : item.plane
            ? "matte"
            : size;
      rows.push({ kind: "heading", key: `${name}/${layer}`, item: name, layer, note });
      const together = layer && source ? togetherOf(channels) : null;
      const shown = [...(together ? [together] : []), ...channels.map((channel) => [channel])];
      for (let start = 0; start < shown.length; start += 2)
        rows.push({
          kind: "tiles",
          key: `${name}/${shown[start]!.join("+")}`,
          tiles: shown.slice(start, start + 2).map((own) => ({
            item: name,
            channels: own,
            layer,
            data: own.every((channel) => data.has(channel)),
            known: item,
          })),
        });
    }
  }
  return rows;
}
