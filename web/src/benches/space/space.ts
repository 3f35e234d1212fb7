import type { components } from "@/api/schema";
import { type Recipe, type Step, findStep, freeName, insertAfter, portOf, setSetting } from "@/api/recipe";
import { upstream } from "@/stage/focus";

import { type Point, eyeOf, lengthOf, minus, plus, times } from "./camera";
import { type Handle, type Measure, depthHandlesOf, rounded } from "./shape";

type Schemas = components["schemas"];
export type DepthRow = Omit<Schemas["DepthRow"], "range" | "unit"> & { range: number[]; unit: number | null };
export type SpaceRow = Omit<Schemas["SpaceRow"], "depths"> & { depths: DepthRow[] };
export type Located = Omit<Schemas["LocatedRow"], "position" | "outline"> & {
  position: number[] | null;
  outline: number[][][];
};

/** What a source knows of its space that an item was made of, else the first that knows anything. */
export function spaceOf(rows: SpaceRow[], recipe: Recipe, item: string | null): SpaceRow | undefined {
  const above = item ? [item, ...upstream(recipe, item)] : [];
  for (const name of above) {
    const row = rows.find((each) => each.source === name);
    if (row) return row;
  }
  return rows[0];
}

/** A step that makes of positions what a render did not bring along. */
const made = (recipe: Recipe, op: string) => recipe.steps?.findLast((each) => each.op === op)?.name;

/** The address of the depth that a step works with, else of the space. */
export function depthOf(
  space: SpaceRow | undefined,
  step: Step | undefined,
  recipe: Recipe,
): string | undefined {
  return portOf(step, "depth") ?? (space && depthIn(space, recipe));
}

/** What the depth at an address measures, where places of the world can be put onto it. */
export function measureOf(
  space: SpaceRow | undefined,
  depth: string | undefined,
  recipe: Recipe,
): Measure | null {
  const step = depth ? findStep(recipe, depth) : undefined;
  if (space?.camera && step?.op === "depth_from_position")
    return { camera: space.camera, kind: step.set?.radial ? "radial" : "planar", unit: 1 };
  const row = space?.depths.find((each) => `${space.source}.${each.channel}` === depth);
  return space?.camera && row ? { camera: space.camera, kind: row.kind, unit: row.unit } : null;
}

/** The positions that a step works with, else those of the render or what makes them. */
export function positionOf(
  space: SpaceRow | undefined,
  step: Step | undefined,
  recipe: Recipe,
): string | undefined {
  return portOf(step, "position") ?? (space?.position || made(recipe, "position_from_depth"));
}

/** What is added on this bench: what it is called, its step's operation, and what a space has to know for it. */
export interface Kind {
  label: string;
  op: string;
  title: string;
  needs: (space: SpaceRow, recipe: Recipe) => boolean;
}

const depthIn = (space: SpaceRow, recipe: Recipe) =>
  space.depths[0] ? `${space.source}.${space.depths[0].channel}` : made(recipe, "depth_from_position");
const normalsIn = (space: SpaceRow, recipe: Recipe) => space.normals || made(recipe, "normals_from_position");
const hasDepth = (space: SpaceRow, recipe: Recipe) => depthIn(space, recipe) !== undefined;
const hasPosition = (space: SpaceRow, recipe: Recipe) => positionOf(space, undefined, recipe) !== undefined;

export const KINDS: Kind[] = [
  { label: "Slice", op: "depth_slice", title: "A matte between two depths", needs: hasDepth },
  { label: "Fog", op: "fog", title: "Fog that thickens with depth", needs: hasDepth },
  { label: "Defocus", op: "defocus", title: "Sharp at one distance, as through a lens", needs: hasDepth },
  {
    label: "Matte in space",
    op: "space_matte",
    title: "A ball, box or slab that sticks to the set",
    needs: hasPosition,
  },
  {
    label: "Ids",
    op: "id_pick",
    title: "The coverage of picked things",
    needs: (space) => space.ids.length > 0,
  },
  {
    label: "Light",
    op: "relight",
    title: "A lamp or a sun, as a pass of its own",
    needs: (space, recipe) => hasPosition(space, recipe) && Boolean(normalsIn(space, recipe)),
  },
  {
    label: "Positions",
    op: "position_from_depth",
    title: "Where each pixel lies, from depth and camera",
    needs: (space) => space.depths.length > 0 && space.position === "",
  },
  {
    label: "Depth",
    op: "depth_from_position",
    title: "How far each pixel is away, from positions and camera",
    needs: (space, recipe) => hasPosition(space, recipe) && space.depths.length === 0,
  },
  {
    label: "Normals",
    op: "normals_from_position",
    title: "Which way surfaces face, from positions",
    needs: (space, recipe) => hasPosition(space, recipe) && space.normals === "",
  },
  { label: "Mend edges", op: "depth_edges", title: "Depth without averaged edges", needs: hasDepth },
];

/** First settings of a step, from what its depth holds. */
function firstSettings(op: string, depth: DepthRow | undefined): Record<string, unknown> {
  const [low = 1, high = 10] = depth?.range ?? [];
  const deep = high - low || 1;
  const at = (share: number) => rounded(low + deep * share);
  if (op === "depth_slice")
    return {
      near: at(0.2),
      far: at(0.5),
      feather_near: rounded(deep * 0.05),
      feather_far: rounded(deep * 0.05),
    };
  if (op === "fog") return { start: at(0), end: at(1), density: rounded(1 / deep) };
  if (op === "defocus") return { focus: at(0.3) };
  if (op === "space_matte")
    return { size: Array(3).fill(rounded(deep * 0.12)), softness: rounded(deep * 0.06) };
  if (op === "relight") return { size: rounded(deep * 0.15) };
  return {};
}

/** The recipe with a step of the Space bench behind the item in focus, wired to what the source knows. */
export function added(
  recipe: Recipe,
  space: SpaceRow,
  op: string,
  item: string | null,
  picture: string,
): [Recipe, string] {
  const depth = depthIn(space, recipe) ?? "";
  const normals = normalsIn(space, recipe) ?? "";
  const position = positionOf(space, undefined, recipe) ?? "";
  const ids = space.ids[0];
  const coverage = space.alpha;
  const ports: Record<string, Record<string, string>> = {
    depth_slice: { depth, coverage },
    depth_edges: { depth },
    position_from_depth: { depth },
    fog: { picture, depth, position },
    defocus: { picture, depth },
    space_matte: { position, coverage },
    id_pick: { ids: ids?.address ?? space.source },
    relight: { position, normals, albedo: space.albedo },
    depth_from_position: { position },
    normals_from_position: { position },
  };
  const fed = Object.fromEntries(Object.entries(ports[op] ?? {}).filter(([, address]) => address));
  const name = freeName(recipe, NAMES[op] ?? op);
  const set = firstSettings(op, space.depths[0]);
  const step = { name, op, in: fed, ...(Object.keys(set).length ? { set } : {}) };
  const behind = item && findStep(recipe, item) ? item : null;
  return [insertAfter(recipe, step, behind), name];
}

const NAMES: Record<string, string> = {
  depth_slice: "slice",
  space_matte: "in_space",
  id_pick: "picked",
  position_from_depth: "positions",
  depth_from_position: "depth",
  normals_from_position: "normals",
  depth_edges: "mended_depth",
  relight: "lamp",
};

/** Everything of a step that can be moved on the elevation, from near to far. */
export function handlesOf(step: Step | undefined, measure: Measure | null = null): Handle[] {
  if (!step || step.on === false) return [];
  const set = (step.set ?? {}) as Record<string, number | number[] | string>;
  const value = (name: string, initial: number) => (typeof set[name] === "number" ? set[name] : initial);
  const put = (name: string, change: (to: number) => unknown) => (recipe: Recipe, to: number) =>
    setSetting(recipe, step.name, name, change(to));
  switch (step.op) {
    case "depth_slice": {
      const [near, far] = [value("near", 1), value("far", 10)];
      const [before, behind] = [value("feather_near", 0.5), value("feather_far", 0.5)];
      return [
        {
          name: "feather_near",
          label: "rises from",
          at: near - before,
          soft: true,
          moved: put("feather_near", (to) => rounded(Math.max(0, near - to))),
        },
        { name: "near", label: "near", at: near, moved: put("near", (to) => rounded(Math.min(to, far))) },
        { name: "far", label: "far", at: far, moved: put("far", (to) => rounded(Math.max(to, near))) },
        {
          name: "feather_far",
          label: "has fallen",
          at: far + behind,
          soft: true,
          moved: put("feather_far", (to) => rounded(Math.max(0, to - far))),
        },
      ];
    }
    case "depth_range":
      return ["near", "far"]
        .filter((name) => typeof set[name] === "number")
        .map((name) => ({ name, label: name, at: value(name, 0), moved: put(name, rounded) }));
    case "fog": {
      const [start, end] = [value("start", 1), value("end", 20)];
      const linear = set.law === "linear";
      if (set.law === "low") return [];
      return [
        {
          name: "start",
          label: "fog begins",
          at: start,
          moved: put("start", (to) => rounded(linear ? Math.min(to, end * 0.999) : to)),
        },
        ...(linear
          ? [
              {
                name: "end",
                label: "fog is whole",
                at: end,
                moved: put("end", (to) => rounded(Math.max(to, start + 1e-3))),
              },
            ]
          : []),
      ];
    }
    case "defocus": {
      const focus = value("focus", 5);
      const [before, behind] = (set.range as number[] | undefined) ?? [0, 0];
      const both = (a: number, b: number) => [
        rounded(Math.max(0, Math.min(a, focus * 0.99))),
        rounded(Math.max(0, b)),
      ];
      return [
        {
          name: "sharp_from",
          label: "sharp from",
          at: focus - before!,
          soft: true,
          moved: put("range", (to) => both(focus - to, behind!)),
        },
        {
          name: "focus",
          label: "focus",
          at: focus,
          moved: put("focus", (to) => rounded(Math.max(to, before! * 1.01 + 1e-3))),
        },
        {
          name: "sharp_to",
          label: "sharp to",
          at: focus + behind!,
          soft: true,
          moved: put("range", (to) => both(before!, to - focus)),
        },
      ];
    }
    default:
      return measure ? depthHandlesOf(step, measure) : [];
  }
}

const risen = (value: number, low: number, high: number, smooth: boolean) => {
  if (high <= low) return value > low ? 1 : 0;
  const t = Math.min(1, Math.max(0, (value - low) / (high - low)));
  return smooth ? t * t * (3 - 2 * t) : t;
};

/** How strongly a step works at a depth, 0 to 1, for the line on the elevation; null where it does not go by depth. */
export function strengthAt(step: Step | undefined): ((depth: number) => number) | null {
  const set = (step?.set ?? {}) as Record<string, number | number[] | string | boolean>;
  const value = (name: string, initial: number) => (typeof set[name] === "number" ? set[name] : initial);
  switch (step?.op) {
    case "depth_slice": {
      const [near, far] = [value("near", 1), value("far", 10)];
      const smooth = set.profile !== "linear";
      return (depth) => {
        const matte =
          risen(depth, near - value("feather_near", 0.5), near, smooth) -
          risen(depth, far, far + value("feather_far", 0.5), smooth);
        return set.invert ? 1 - matte : matte;
      };
    }
    case "fog": {
      const [start, end] = [value("start", 1), value("end", 20)];
      const [density, opacity] = [value("density", 0.1), value("opacity", 1)];
      if (set.law === "low") return null;
      return (depth) => {
        const way = Math.max(0, depth - start);
        if (set.law === "linear") return opacity * Math.min(1, way / (end - start));
        const thick = density * way;
        return opacity * (1 - Math.exp(-(set.law === "squared" ? thick * thick : thick)));
      };
    }
    case "defocus": {
      const focus = value("focus", 5);
      const [before, behind] = (set.range as number[] | undefined) ?? [0, 0];
      const [near, far] = [focus - before!, focus + behind!];
      return (depth) =>
        Math.min(1, depth > far ? 1 - far / depth : depth < near ? (far / depth - far / near) * 1 : 0);
    }
    default:
      return null;
  }
}

/** What a click on the stage sets of a step: what it is called, what it needs to know there, and what becomes of it. */
export interface Pickable {
  label: string;
  knows: "depth" | "position";
  taken: (recipe: Recipe, found: Located) => Recipe;
}

export function pickablesOf(step: Step | undefined, camera: number[] | null): Pickable[] {
  if (!step) return [];
  const depth = (
    label: string,
    setting: string,
    change?: (recipe: Recipe, to: number) => Recipe,
  ): Pickable => ({
    label,
    knows: "depth",
    taken: (recipe, found) =>
      found.depth === null
        ? recipe
        : (change ?? ((before, to) => setSetting(before, step.name, setting, rounded(to))))(
            recipe,
            found.depth,
          ),
  });
  const position = (label: string, setting: string): Pickable => ({
    label,
    knows: "position",
    taken: (recipe, found) =>
      found.position ? setSetting(recipe, step.name, setting, found.position.map(rounded)) : recipe,
  });
  const handle = (name: string) => (recipe: Recipe, to: number) =>
    handlesOf(findStep(recipe, step.name))
      .find((each) => each.name === name)
      ?.moved(recipe, to) ?? recipe;
  switch (step.op) {
    case "depth_slice":
      // Whichever is clicked first: the other end gives way.
      return [
        depth("Nearest here", "near", (recipe, to) => ends(recipe, step.name, "near", to)),
        depth("Farthest here", "far", (recipe, to) => ends(recipe, step.name, "far", to)),
      ];
    case "depth_range":
      return [depth("Near here", "near"), depth("Far here", "far")];
    case "fog":
      return [
        depth("Begins here", "start", handle("start")),
        ...(step.set?.law === "linear" ? [depth("Whole here", "end", handle("end"))] : []),
      ];
    case "defocus":
      return [depth("Sharp here", "focus", handle("focus"))];
    case "space_matte":
      return [position("Centre here", "centre")];
    case "relight":
      if ((step.set?.light ?? "point") !== "point") return [];
      return [
        {
          label: "Lamp here",
          knows: "position",
          taken: (recipe, found) =>
            found.position
              ? setSetting(
                  recipe,
                  step.name,
                  "at",
                  before(found.position, camera, Number(step.set?.size ?? 0.5)),
                )
              : recipe,
        },
      ];
    default:
      return [];
  }
}

/** A place so far before a surface, towards the eye: a lamp inside of it would light nothing of it. */
export function before(place: number[], camera: number[] | null, by: number): number[] {
  if (!camera) return place.map(rounded);
  const away = minus(eyeOf(camera), place as Point);
  const length = lengthOf(away) || 1;
  return plus(place as Point, times(away, by / length)).map(rounded);
}

function ends(recipe: Recipe, name: string, which: "near" | "far", to: number): Recipe {
  const set = (findStep(recipe, name)?.set ?? {}) as Record<string, number>;
  const other = which === "near" ? "far" : "near";
  const given = setSetting(recipe, name, which, rounded(to));
  const crossed = which === "near" ? to > (set.far ?? 10) : to < (set.near ?? 1);
  return crossed ? setSetting(given, name, other, rounded(to)) : given;
}

/** Ids picked or given up, by what they are called: a name, else the number or digits. */
export function pickedAfter(
  before: (string | number)[],
  found: Located["ids"],
  keys: { shift: boolean; alt: boolean },
): (string | number)[] {
  const top = found[0];
  if (!top) return before;
  const own = top.name || top.id;
  const others = before.filter((each) => String(each) !== own && String(each) !== top.id);
  if (keys.alt) return others;
  return keys.shift ? [...others, own] : [own];
}
