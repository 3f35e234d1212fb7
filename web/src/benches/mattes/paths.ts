import type { Movement } from "@/time/movement";

/** A point of a path: x, y; then tangents in and out relative to it; then its own feather inward and outward. */
export type PathPoint = number[];

export interface ShapePath {
  name?: string;
  /** Where what it surrounds was followed to: a matrix for each frame, from the points of one. */
  movement?: Movement;
  points?: PathPoint[];
  mode?: "add" | "cut";
  opacity?: number;
  feather?: number | [number, number];
}

/** The points that are edited: at the frame that is looked at, where they move. */
export function pointsOf(path: ShapePath): PathPoint[] {
  return path.points ?? [];
}

export function withPoints(path: ShapePath, points: PathPoint[]): ShapePath {
  return { ...path, points };
}

const round = (value: number) => Math.round(value * 100) / 100;

export function moved(point: PathPoint, dx: number, dy: number): PathPoint {
  return [round(point[0]! + dx), round(point[1]! + dy), ...point.slice(2)];
}

/** Points turned (degrees, clockwise) and made larger about the middle of the chosen ones, or of all without any. */
export function turned(points: PathPoint[], chosen: number[], degrees: number, size: number): PathPoint[] {
  const meant = chosen.length ? chosen : points.map((_, index) => index);
  const middle = [0, 1].map((axis) => meant.reduce((sum, at) => sum + points[at]![axis]!, 0) / meant.length);
  const [c, s] = [size * Math.cos((degrees * Math.PI) / 180), size * Math.sin((degrees * Math.PI) / 180)];
  const by = (x: number, y: number): [number, number] => [c * x - s * y, s * x + c * y];
  return points.map((point, index) => {
    if (!meant.includes(index)) return point;
    const [x, y] = by(point[0]! - middle[0]!, point[1]! - middle[1]!);
    const tangents = point.length >= 6 ? [...by(point[2]!, point[3]!), ...by(point[4]!, point[5]!)] : [];
    return [...[x + middle[0]!, y + middle[1]!, ...tangents].map(round), ...point.slice(6)];
  });
}

/** A point with other tangents; `both` mirrors the outgoing one. */
export function bent(
  point: PathPoint,
  which: "in" | "out",
  dx: number,
  dy: number,
  both: boolean,
): PathPoint {
  const [x, y, ix = 0, iy = 0, ox = 0, oy = 0, ...rest] = point;
  const [a, b] = [round(dx), round(dy)];
  const incoming = which === "in" ? [a, b] : both ? [-a, -b] : [ix, iy];
  const outgoing = which === "out" ? [a, b] : both ? [-a, -b] : [ox, oy];
  return [x!, y!, ...incoming, ...outgoing, ...rest];
}

/** The four control points of each curve of a closed path. */
export function curves(points: PathPoint[]): [number, number][][] {
  return points.map((here, index) => {
    const next = points[(index + 1) % points.length]!;
    const [x, y, , , ox = 0, oy = 0] = here;
    const [nx, ny, ix = 0, iy = 0] = next;
    return [
      [x!, y!],
      [x! + ox, y! + oy],
      [nx! + ix, ny! + iy],
      [nx!, ny!],
    ];
  });
}

/** The place on a curve at a part t of its way. */
export function on([a, b, c, d]: [number, number][], t: number): [number, number] {
  const mix = (axis: 0 | 1) =>
    a![axis] * (1 - t) ** 3 +
    3 * b![axis] * t * (1 - t) ** 2 +
    3 * c![axis] * t * t * (1 - t) +
    d![axis] * t ** 3;
  return [mix(0), mix(1)];
}

const STEPS = 24;

/** The curve and the place on it nearest to a position, and how far away it is. */
export function nearest(points: PathPoint[], x: number, y: number) {
  let best = { index: -1, t: 0, distance: Infinity };
  curves(points).forEach((curve, index) => {
    for (let step = 0; step <= STEPS; step++) {
      const [px, py] = on(curve, step / STEPS);
      const distance = Math.hypot(px - x, py - y);
      if (distance < best.distance) best = { index, t: step / STEPS, distance };
    }
  });
  return best;
}

/** The path with a point put on one of its curves, which keeps its course (de Casteljau). */
export function split(points: PathPoint[], index: number, t: number): PathPoint[] {
  const [a, b, c, d] = curves(points)[index]!;
  const mix = (p: [number, number], q: [number, number]): [number, number] => [
    p[0] + (q[0] - p[0]) * t,
    p[1] + (q[1] - p[1]) * t,
  ];
  const [ab, bc, cd] = [mix(a!, b!), mix(b!, c!), mix(c!, d!)];
  const [abc, bcd] = [mix(ab, bc), mix(bc, cd)];
  const middle = mix(abc, bcd);
  const next = (index + 1) % points.length;
  const result = points.map((point, at) => {
    const [x, y, ix = 0, iy = 0, ox = 0, oy = 0, ...rest] = point;
    if (at === index) return [x!, y!, ix, iy, round(ab[0] - x!), round(ab[1] - y!), ...rest];
    if (at === next) return [x!, y!, round(cd[0] - x!), round(cd[1] - y!), ox, oy, ...rest];
    return point;
  });
  const tangents = [abc[0] - middle[0], abc[1] - middle[1], bcd[0] - middle[0], bcd[1] - middle[1]];
  result.splice(index + 1, 0, [...middle, ...tangents].map(round));
  return result;
}

/** Whether a position lies inside a closed path. */
export function inside(points: PathPoint[], x: number, y: number): boolean {
  const outline = curves(points).flatMap((curve) =>
    Array.from({ length: STEPS }, (_, step) => on(curve, step / STEPS)),
  );
  let odd = false;
  outline.forEach(([ax, ay], index) => {
    const [bx, by] = outline[(index + 1) % outline.length]!;
    if (ay > y !== by > y && x < ((bx - ax) * (y - ay)) / (by - ay) + ax) odd = !odd;
  });
  return odd;
}

/** SVG path data, the points taken to the screen by `to`. */
export function outline(
  points: PathPoint[],
  to: (x: number, y: number) => [number, number],
  closed: boolean,
): string {
  if (points.length === 0) return "";
  const text = ([x, y]: [number, number]) => `${x.toFixed(1)} ${y.toFixed(1)}`;
  const start = `M${text(to(points[0]![0]!, points[0]![1]!))}`;
  const parts = curves(points).slice(0, closed ? undefined : -1);
  return (
    start +
    parts.map(([, b, c, d]) => `C${text(to(...b!))} ${text(to(...c!))} ${text(to(...d!))}`).join("") +
    (closed ? "Z" : "")
  );
}
