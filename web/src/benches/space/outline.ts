import type { Step } from "@/api/recipe";

type Point = [number, number, number];
type Line = [number, number][];

/** Where a place of the world falls on the picture; null behind the camera. `camera` is 3 x 4 by rows. */
export function seen(camera: number[], [x, y, z]: Point): [number, number] | null {
  const row = (at: number) => camera[at]! * x + camera[at + 1]! * y + camera[at + 2]! * z + camera[at + 3]!;
  const away = row(8);
  return away > 1e-6 ? [row(0) / away, row(4) / away] : null;
}

/** The camera's eye: where the left 3 x 3 and its last column cancel out. */
export function eyeOf(camera: number[]): Point {
  const [a, b, c, p, d, e, f, q, g, h, i, r] = camera as [
    number, number, number, number, number, number, number, number, number, number, number, number,
  ]; // prettier-ignore
  const whole = a * (e * i - f * h) - b * (d * i - f * g) + c * (d * h - e * g);
  const solve = (x: number, y: number, z: number): Point => [
    (x * (e * i - f * h) + y * (c * h - b * i) + z * (b * f - c * e)) / whole,
    (x * (f * g - d * i) + y * (a * i - c * g) + z * (c * d - a * f)) / whole,
    (x * (d * h - e * g) + y * (b * g - a * h) + z * (a * e - b * d)) / whole,
  ];
  return solve(-p, -q, -r);
}

const minus = (a: Point, b: Point): Point => [a[0] - b[0], a[1] - b[1], a[2] - b[2]];
const dot = (a: Point, b: Point) => a[0] * b[0] + a[1] * b[1] + a[2] * b[2];
const cross = (a: Point, b: Point): Point => [
  a[1] * b[2] - a[2] * b[1],
  a[2] * b[0] - a[0] * b[2],
  a[0] * b[1] - a[1] * b[0],
];
const times = (a: Point, k: number): Point => [a[0] * k, a[1] * k, a[2] * k];
const plus = (...points: Point[]): Point =>
  points.reduce((sum, point) => [sum[0] + point[0], sum[1] + point[1], sum[2] + point[2]], [0, 0, 0]);
const unit = (a: Point): Point => times(a, 1 / Math.sqrt(dot(a, a)));

/** What is seen of a ball is bounded by a circle nearer to the eye and smaller than its own. */
export function ballOutline(camera: number[], centre: Point, radius: number, count = 72): Line {
  const eye = eyeOf(camera);
  const away = minus(centre, eye);
  const square = dot(away, away);
  if (square <= radius * radius) return [];
  const part = 1 - (radius * radius) / square;
  const forward = unit(away);
  const across = unit(cross(forward, Math.abs(forward[1]) < 0.9 ? [0, 1, 0] : [1, 0, 0]));
  const upward = cross(forward, across);
  const ring = radius * Math.sqrt(part);
  const points = Array.from({ length: count + 1 }, (_, index) => {
    const turn = (index / count) * 2 * Math.PI;
    return seen(
      camera,
      plus(
        eye,
        times(away, part),
        times(across, ring * Math.cos(turn)),
        times(upward, ring * Math.sin(turn)),
      ),
    );
  });
  return points.every((point) => point !== null) ? points : [];
}

/** A point turned by degrees about x, then y, then z. */
export function turned([x, y, z]: Point, rotation: Point): Point {
  const [a, b, c] = rotation.map((degrees) => (degrees * Math.PI) / 180) as Point;
  const [y1, z1] = [y * Math.cos(a) - z * Math.sin(a), y * Math.sin(a) + z * Math.cos(a)];
  const [x2, z2] = [x * Math.cos(b) + z1 * Math.sin(b), -x * Math.sin(b) + z1 * Math.cos(b)];
  return [x2 * Math.cos(c) - y1 * Math.sin(c), x2 * Math.sin(c) + y1 * Math.cos(c), z2];
}

/** The lines that show a shape of space on the picture; a slab has none. */
export function outlinesOf(step: Step, camera: number[]): Line[] {
  const set = (step.set ?? {}) as { shape?: string; centre?: Point; size?: Point; rotation?: Point };
  const centre = set.centre ?? [0, 0, 0];
  const size = set.size ?? [1, 1, 1];
  if ((set.shape ?? "ball") === "ball") return [ballOutline(camera, centre, size[0])];
  if (set.shape === "slab") return [];
  const corner = (bits: number) =>
    seen(
      camera,
      plus(
        centre,
        turned(
          [size[0] * (bits & 1 ? 1 : -1), size[1] * (bits & 2 ? 1 : -1), size[2] * (bits & 4 ? 1 : -1)],
          set.rotation ?? [0, 0, 0],
        ),
      ),
    );
  const lines: Line[] = [];
  for (let from = 0; from < 8; from++)
    for (const bit of [1, 2, 4]) {
      if (from & bit) continue;
      const [a, b] = [corner(from), corner(from | bit)];
      if (a && b) lines.push([a, b]);
    }
  return lines;
}
