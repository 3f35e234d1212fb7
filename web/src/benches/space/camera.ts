/** Points of the world, and a camera: 3 x 4 by rows, world to pixels of the full picture. */
export type Point = [number, number, number];
export type Spot = [number, number];

export const minus = (a: Point, b: Point): Point => [a[0] - b[0], a[1] - b[1], a[2] - b[2]];
export const dot = (a: Point, b: Point) => a[0] * b[0] + a[1] * b[1] + a[2] * b[2];
export const cross = (a: Point, b: Point): Point => [
  a[1] * b[2] - a[2] * b[1],
  a[2] * b[0] - a[0] * b[2],
  a[0] * b[1] - a[1] * b[0],
];
export const times = (a: Point, k: number): Point => [a[0] * k, a[1] * k, a[2] * k];
export const plus = (...points: Point[]): Point =>
  points.reduce((sum, point) => [sum[0] + point[0], sum[1] + point[1], sum[2] + point[2]], [0, 0, 0]);
export const lengthOf = (a: Point) => Math.sqrt(dot(a, a));
export const unit = (a: Point): Point => times(a, 1 / lengthOf(a));

const rowOf = (camera: number[], row: number) => camera.slice(row * 4, row * 4 + 3) as Point;

/** Where a place of the world falls on the picture; null behind the camera. */
export function seen(camera: number[], place: Point): Spot | null {
  const row = (at: number) => dot(rowOf(camera, at), place) + camera[at * 4 + 3]!;
  const away = row(2);
  return away > 1e-6 ? [row(0) / away, row(1) / away] : null;
}

/** The place whose first three columns give `wanted`: by Cramer's rule. */
function solved(camera: number[], wanted: Point): Point {
  const rows = [0, 1, 2].map((row) => rowOf(camera, row)) as [Point, Point, Point];
  const whole = dot(rows[0], cross(rows[1], rows[2]));
  return times(
    plus(
      times(cross(rows[1], rows[2]), wanted[0]),
      times(cross(rows[2], rows[0]), wanted[1]),
      times(cross(rows[0], rows[1]), wanted[2]),
    ),
    1 / whole,
  );
}

const lastOf = (camera: number[]): Point => [camera[3]!, camera[7]!, camera[11]!];

/** The camera's eye: where the left 3 x 3 and its last column cancel out. */
export const eyeOf = (camera: number[]): Point => solved(camera, times(lastOf(camera), -1));

/** The way the camera looks, one unit of the world long. */
export const forwardOf = (camera: number[]): Point => unit(rowOf(camera, 2));

/** How far a place lies along the view, in units of the world. */
export const awayOf = (camera: number[], place: Point) => dot(forwardOf(camera), minus(place, eyeOf(camera)));

/** The place that is seen at a spot of the picture, so far along the view. */
export function placeAt(camera: number[], [u, v]: Spot, away: number): Point {
  const scale = away * lengthOf(rowOf(camera, 2));
  return solved(camera, minus([u * scale, v * scale, scale], lastOf(camera)));
}

const across = (camera: number[], way: Spot): Point =>
  unit(minus(placeAt(camera, way, 1), placeAt(camera, [0, 0], 1)));

/** What is to the right in the picture, and what is down, one unit of the world long. */
export const rightOf = (camera: number[]) => across(camera, [1, 0]);
export const downOf = (camera: number[]) => across(camera, [0, 1]);

/** How far along a line `from` + s `way` the picture shows the spot nearest to a given one; null where it shows none. */
export function alongSeen(camera: number[], from: Point, way: Point, spot: Spot): number | null {
  const [start, end] = [seen(camera, from), seen(camera, plus(from, way))];
  if (!start || !end) return null;
  const line: Spot = [end[0] - start[0], end[1] - start[1]];
  const size = Math.hypot(...line);
  if (size < 1e-6) return null;
  const along = ([u, v]: Spot) => (u * line[0] + v * line[1]) / size;
  // Seen at s is (c + s d) / (w + s e), for the coordinate along the line.
  const row = (at: number, place: Point, one: number) =>
    dot(rowOf(camera, at), place) + one * camera[at * 4 + 3]!;
  const value = (place: Point, one: number) => along([row(0, place, one), row(1, place, one)]);
  const wanted = along(spot);
  const below = value(way, 0) - wanted * row(2, way, 0);
  return Math.abs(below) < 1e-9 ? null : (wanted * row(2, from, 1) - value(from, 1)) / below;
}

/** A turn as three rows. */
export type Turn = [Point, Point, Point];

const applied = (turn: Turn, place: Point): Point => turn.map((row) => dot(row, place)) as Point;

/** A place turned by degrees about x, then y, then z. */
export const turned = (place: Point, rotation: Point): Point => applied(turnOf(rotation), place);

/** The turn by degrees about x, then y, then z. */
export function turnOf(rotation: Point): Turn {
  const [a, b, c] = rotation.map((degrees) => (degrees * Math.PI) / 180) as Point;
  const [ca, sa, cb, sb, cc, sc] = [a, b, c].flatMap((angle) => [Math.cos(angle), Math.sin(angle)]) as [
    number, number, number, number, number, number,
  ]; // prettier-ignore
  return [
    [cc * cb, cc * sb * sa - sc * ca, cc * sb * ca + sc * sa],
    [sc * cb, sc * sb * sa + cc * ca, sc * sb * ca - cc * sa],
    [-sb, cb * sa, cb * ca],
  ];
}

/** The degrees about x, then y, then z of what is turned by `rotation` and then by `degrees` about an axis. */
export function turnedFurther(rotation: Point, axis: Point, degrees: number): Point {
  const angle = (degrees * Math.PI) / 180;
  const about = unit(axis);
  // Rodrigues' formula.
  const turnedBy = (place: Point): Point =>
    plus(
      times(place, Math.cos(angle)),
      times(cross(about, place), Math.sin(angle)),
      times(about, dot(about, place) * (1 - Math.cos(angle))),
    );
  const before = turnOf(rotation);
  const columns = [0, 1, 2].map((at) => turnedBy(before.map((row) => row[at]!) as Point)) as Turn;
  const part = (row: number, column: number) => columns[column]![row]!;
  const inDegrees = (radians: number) => (radians * 180) / Math.PI;
  const flat = Math.hypot(part(0, 0), part(1, 0));
  const y = Math.atan2(-part(2, 0), flat);
  // Straight up x and z turn about the same: all is given to x.
  if (flat < 1e-9) return [inDegrees(Math.atan2(-part(1, 2), part(1, 1))), inDegrees(y), 0];
  return [
    inDegrees(Math.atan2(part(2, 1), part(2, 2))),
    inDegrees(y),
    inDegrees(Math.atan2(part(1, 0), part(0, 0))),
  ];
}
