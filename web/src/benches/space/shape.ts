import { type Recipe, type Step, setSetting } from "@/api/recipe";

import {
  type Point,
  type Spot,
  alongSeen,
  awayOf,
  cross,
  dot,
  downOf,
  eyeOf,
  forwardOf,
  lengthOf,
  minus,
  placeAt,
  plus,
  rightOf,
  seen,
  times,
  turned,
  turnedFurther,
  unit,
} from "./camera";

/** A shape of space as a step has it. */
interface Shape {
  kind: string;
  centre: Point;
  size: Point;
  rotation: Point;
}

function shapeOf(step: Step | undefined): Shape | null {
  if (step?.op !== "space_matte") return null;
  const set = (step.set ?? {}) as { shape?: string; centre?: Point; size?: Point; rotation?: Point };
  return {
    kind: set.shape ?? "ball",
    centre: set.centre ?? [0, 0, 0],
    size: set.size ?? [1, 1, 1],
    rotation: set.rotation ?? [0, 0, 0],
  };
}

const AXES: Turn3 = [
  [1, 0, 0],
  [0, 1, 0],
  [0, 0, 1],
];
type Turn3 = [Point, Point, Point];
const axesOf = (shape: Shape) => AXES.map((axis) => turned(axis, shape.rotation)) as Turn3;

/** What is seen of a ball is bounded by a circle nearer to the eye and smaller than its own. */
export function ballRing(camera: number[], centre: Point, radius: number, count = 72): Point[] {
  const eye = eyeOf(camera);
  const away = minus(centre, eye);
  const square = dot(away, away);
  if (square <= radius * radius) return [];
  const part = 1 - (radius * radius) / square;
  const forward = unit(away);
  const across = unit(cross(forward, Math.abs(forward[1]) < 0.9 ? [0, 1, 0] : [1, 0, 0]));
  return ring(plus(eye, times(away, part)), across, cross(forward, across), radius * Math.sqrt(part), count);
}

function ring(middle: Point, across: Point, upward: Point, radius: number, count = 72): Point[] {
  return Array.from({ length: count + 1 }, (_, index) => {
    const turn = (index / count) * 2 * Math.PI;
    return plus(middle, times(across, radius * Math.cos(turn)), times(upward, radius * Math.sin(turn)));
  });
}

/** How large the faces of a slab, which have no end, are drawn: a share of how far it is away. */
const FACE = 0.25;

/** The edges of a box, or of what is drawn of a slab. */
function edges(shape: Shape, reach: Point): [Point, Point][] {
  const corner = (bits: number) =>
    plus(
      shape.centre,
      turned(
        [reach[0] * (bits & 1 ? 1 : -1), reach[1] * (bits & 2 ? 1 : -1), reach[2] * (bits & 4 ? 1 : -1)],
        shape.rotation,
      ),
    );
  return [0, 1, 2, 3, 4, 5, 6, 7].flatMap((from) =>
    [1, 2, 4].filter((bit) => !(from & bit)).map((bit): [Point, Point] => [corner(from), corner(from | bit)]),
  );
}

/** The lines of a shape in the world, as they are drawn over the picture, or seen from beside or above it. */
export function linesOf(
  step: Step | undefined,
  camera: number[],
  side: "stage" | "side" | "above",
): Point[][] {
  const shape = shapeOf(step);
  if (!shape) return [];
  if (shape.kind === "ball") {
    if (side === "stage") return [ballRing(camera, shape.centre, shape.size[0])];
    const forward = forwardOf(camera);
    const across = side === "above" ? rightOf(camera) : downOf(camera);
    return [ring(shape.centre, forward, across, shape.size[0])];
  }
  const wide = FACE * Math.max(0, awayOf(camera, shape.centre));
  return edges(shape, shape.kind === "slab" ? [wide, wide, shape.size[2]] : shape.size);
}

/** The lines that show a shape of space on the picture. */
export function outlinesOf(step: Step, camera: number[]): Spot[][] {
  return linesOf(step, camera, "stage").flatMap((line) => {
    const spots = line.map((place) => seen(camera, place));
    return spots.length > 1 && spots.every((spot) => spot !== null) ? [spots] : [];
  });
}

/** What a depth channel measures, so that places of the world can be put onto it; `unit`: world units that 1 of it is. */
export interface Measure {
  camera: number[];
  kind: string;
  unit: number | null;
}

/** The depth at which a place lies; null where the channel does not measure distance. */
export function depthOfPlace({ camera, kind, unit: one }: Measure, place: Point): number | null {
  if (kind === "planar") return awayOf(camera, place) / (one ?? 1);
  return kind === "radial" ? lengthOf(minus(place, eyeOf(camera))) / (one ?? 1) : null;
}

/** A place brought to another depth, seen where it was seen. */
function broughtTo(measure: Measure, place: Point, depth: number): Point {
  const now = depthOfPlace(measure, place);
  const eye = eyeOf(measure.camera);
  return now && now > 0 ? plus(eye, times(minus(place, eye), Math.max(1e-3, depth / now))) : place;
}

/** A number to work with: four digits are enough. */
export const rounded = (value: number) => Number(value.toPrecision(4));
const SMALLEST = 1e-3;

const sized = (recipe: Recipe, name: string, size: Point, at: number, to: number) =>
  setSetting(
    recipe,
    name,
    "size",
    size.map((value, axis) => (axis === at ? rounded(Math.max(SMALLEST, to)) : value)),
  );
const placed = (recipe: Recipe, name: string, setting: string, to: Point) =>
  setSetting(recipe, name, setting, to.map(rounded));

/** A setting of a step that lies somewhere along the depth, and how it is moved there. */
export interface Handle {
  name: string;
  label: string;
  at: number;
  /** A feather or another soft end: drawn fainter. */
  soft?: boolean;
  moved: (recipe: Recipe, to: number) => Recipe;
}

/** Something of a step to be dragged on the stage. */
export interface StageHandle {
  name: string;
  label: string;
  title: string;
  at: Spot;
  /** How many pixels of the screen beside its place it is drawn. */
  aside?: Spot;
  /** Dragged from a spot of the picture to another. */
  moved: (recipe: Recipe, from: Spot, to: Spot, aside: boolean) => Recipe;
}

/** Degrees that one is turned by while the pointer goes over the height or width of so many pixels of the picture. */
const PER_TURN = 0.4;

/** Handles on the stage of a step's shape or lamp. */
export function stageHandlesOf(step: Step | undefined, camera: number[]): StageHandle[] {
  if (!step || step.on === false) return [];
  const shape = shapeOf(step);
  const lamp = step.op === "relight" && (step.set?.light ?? "point") === "point";
  if (!shape && !lamp) return [];
  const setting = shape ? "centre" : "at";
  const centre = shape?.centre ?? (step.set?.at as Point | undefined) ?? [0, 0, 0];
  const [spot, away] = [seen(camera, centre), awayOf(camera, centre)];
  if (!spot) return [];
  const handles: StageHandle[] = [
    {
      name: setting,
      label: shape ? "centre" : "lamp",
      title: "Drag: across the view, at its depth. Arrow keys; Shift moves far",
      at: spot,
      moved: (recipe, from, to) =>
        placed(
          recipe,
          step.name,
          setting,
          placeAt(camera, [spot[0] + to[0] - from[0], spot[1] + to[1] - from[1]], away),
        ),
    },
  ];
  if (!shape) return handles;
  const size = (axis: number, way: Point, label: string) => {
    const reach = shape.size[axis]!;
    const at = seen(camera, plus(centre, times(way, reach)));
    if (!at) return;
    handles.push({
      name: `size_${axis}`,
      label,
      title: "Drag to size it; arrow keys",
      at,
      moved: (recipe, from, to) => {
        const there: Spot = [at[0] + to[0] - from[0], at[1] + to[1] - from[1]];
        const along = alongSeen(camera, centre, way, there);
        return along === null ? recipe : sized(recipe, step.name, shape.size, axis, Math.abs(along));
      },
    });
  };
  if (shape.kind === "ball") {
    size(0, rightOf(camera), "radius");
    return handles;
  }
  const axes = axesOf(shape);
  const names = ["width", "height", "depth"];
  for (const axis of shape.kind === "slab" ? [2] : [0, 1, 2])
    size(axis, axes[axis]!, shape.kind === "slab" ? "thickness" : names[axis]!);
  handles.push({
    name: "rotation",
    label: "turn",
    title: "Drag sideways or up to turn it about the picture's axes; with Shift about the view. Arrow keys",
    at: spot,
    aside: [-26, 26],
    moved: (recipe, from, to, aside) => {
      const [dx, dy] = [(to[0] - from[0]) * PER_TURN, (to[1] - from[1]) * PER_TURN];
      const [forward, right, down] = [forwardOf(camera), rightOf(camera), downOf(camera)];
      // A camera may see the world mirrored; what faces it follows the pointer all the same.
      const hand = Math.sign(dot(cross(forward, right), down));
      const turns: [Point, number][] = aside
        ? [[forward, dx]]
        : [
            [down, -dx],
            [right, dy],
          ];
      const rotation = turns.reduce((now, [axis, by]) => turnedFurther(now, axis, by * hand), shape.rotation);
      return setSetting(
        recipe,
        step.name,
        "rotation",
        rotation.map((degrees) => Math.round(degrees * 10) / 10),
      );
    },
  });
  return handles;
}

/** What of a step's shape or lamp can be moved along the depth. */
export function depthHandlesOf(step: Step, measure: Measure): Handle[] {
  const shape = shapeOf(step);
  const lamp = step.op === "relight" && (step.set?.light ?? "point") === "point";
  const setting = shape ? "centre" : "at";
  const centre = shape?.centre ?? (step.set?.at as Point | undefined) ?? [0, 0, 0];
  const at = shape || lamp ? depthOfPlace(measure, centre) : null;
  if (at === null) return [];
  const handles: Handle[] = [
    {
      name: setting,
      label: shape ? "centre" : "lamp",
      at,
      moved: (recipe, to) => placed(recipe, step.name, setting, broughtTo(measure, centre, to)),
    },
  ];
  if (!shape) return handles;
  const forward = forwardOf(measure.camera);
  const ball = shape.kind === "ball";
  // The face that looks most along the view.
  const axes: Point[] = ball ? [forward] : axesOf(shape);
  const facing = (axis: number) => Math.abs(dot(axes[axis]!, forward));
  const chosen = ball
    ? 0
    : shape.kind === "slab"
      ? 2
      : [0, 1, 2].reduce((a, b) => (facing(b) > facing(a) ? b : a));
  if (facing(chosen) < 0.2) return handles;
  const way = times(axes[chosen]!, dot(axes[chosen]!, forward) < 0 ? -1 : 1);
  const end = depthOfPlace(measure, plus(centre, times(way, shape.size[chosen]!)));
  if (end !== null)
    handles.push({
      name: `size_${chosen}`,
      label: "reaches to",
      at: end,
      soft: true,
      moved: (recipe, to) =>
        sized(recipe, step.name, shape.size, chosen, ((to - at) * (measure.unit ?? 1)) / facing(chosen)),
    });
  return handles;
}
