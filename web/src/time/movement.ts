import { type Recipe, stepsOf } from "@/api/recipe";

/** Where the points of one frame lie at another: as the core's `operations/movement.py` has it. */
export interface Movement {
  from: number;
  matrices: Record<string, number[]>;
  sure?: Record<string, number>;
}

type Matrix = number[];

const normalised = (matrix: Matrix): Matrix => matrix.map((value) => value / matrix[8]!);

/** The matrix at a frame: interpolated element by element, the nearest beyond the ends. */
export function matrixAt({ matrices }: Movement, frame: number): Matrix {
  const frames = Object.keys(matrices)
    .map(Number)
    .sort((a, b) => a - b);
  const at = (each: number) => normalised(matrices[String(each)]!);
  const after = frames.find((each) => each > frame);
  if (after === undefined) return at(frames.at(-1)!);
  if (after === frames[0]) return at(after);
  const before = frames[frames.indexOf(after) - 1]!;
  const [a, b, t] = [at(before), at(after), (frame - before) / (after - before)];
  return a.map((value, index) => value + (b[index]! - value) * t);
}

export function apply([a, b, c, d, e, f, g, h, i]: Matrix, x: number, y: number): [number, number] {
  const w = g! * x + h! * y + i!;
  return [(a! * x + b! * y + c!) / w, (d! * x + e! * y + f!) / w];
}

export function inverse([a, b, c, d, e, f, g, h, i]: Matrix): Matrix {
  const [A, B, C] = [e! * i! - f! * h!, c! * h! - b! * i!, b! * f! - c! * e!];
  const [D, E, F] = [f! * g! - d! * i!, a! * i! - c! * g!, c! * d! - a! * f!];
  const [G, H, I] = [d! * h! - e! * g!, b! * g! - a! * h!, a! * e! - b! * d!];
  const det = a! * A + b! * D + c! * G;
  return [A, B, C, D, E, F, G, H, I].map((value) => value / det);
}

/** Points of a path under a matrix, with the ends of their tangents. */
export function movedPoints(points: number[][], matrix: Matrix): number[][] {
  return points.map(([x, y, ...rest]) => {
    const [px, py] = apply(matrix, x!, y!);
    if (rest.length < 4) return [px, py, ...rest];
    const tangents = [0, 2].flatMap((at) => {
      const [tx, ty] = apply(matrix, x! + rest[at]!, y! + rest[at + 1]!);
      return [tx - px, ty - py];
    });
    return [px, py, ...tangents, ...rest.slice(4)];
  });
}

/** The curves of a recipe that were followed, by name: others may move as they do. */
export function followedIn(recipe: Recipe): { label: string; movement: Movement }[] {
  return stepsOf(recipe).flatMap((step) => {
    const paths = (step.op === "shape" ? (step.set?.paths ?? []) : []) as {
      name?: string;
      movement?: Movement;
    }[];
    return paths.flatMap((path, index) =>
      path.movement
        ? [{ label: `${step.name}, ${path.name || `curve ${index + 1}`}`, movement: path.movement }]
        : [],
    );
  });
}
