import { useEffect, useRef, useState } from "react";

import { type Recipe, changeStep, findStep } from "@/api/recipe";
import { isTyping } from "@/parts/typing";
import { useDraft } from "@/shot/draft";
import { useTools } from "@/stage/tools";

import { isKeyed, lookedAt, valueIn } from "@/time/keys";
import { inverse, matrixAt, movedPoints } from "@/time/movement";

import type { Gesture } from "./gestures";
import {
  type PathPoint,
  type ShapePath,
  bent,
  inside,
  moved,
  nearest,
  pointsOf,
  split,
  withPoints,
} from "./paths";

interface Context {
  recipe: Recipe;
  item: string | null;
  zoom: number;
  /** A closed path that has just been drawn. */
  onPath: (path: ShapePath) => void;
  onRecipe: (change: (recipe: Recipe) => Recipe, done: boolean) => void;
}

type Grip =
  | { kind: "points"; from: [number, number]; points: PathPoint[] }
  | { kind: "tangent"; which: "in" | "out"; index: number; both: boolean }
  | { kind: "new"; at: [number, number] };

const REACH = 8;

/** The points that were drawn, of those that are seen where a movement takes them. */
const drawn = new WeakMap<PathPoint[], PathPoint[]>();

/** The curves of a shape as they are seen: those that were followed where they lie at the frame that is looked at. */
export function pathsOf(recipe: Recipe, item: string | null): ShapePath[] {
  const step = item ? findStep(recipe, item) : undefined;
  if (step?.op !== "shape") return [];
  return ((step.set?.paths ?? []) as ShapePath[]).map((path) => {
    if (!path.movement || !path.points) return path;
    const points = movedPoints(path.points, matrixAt(path.movement, recipe.at ?? 1));
    drawn.set(points, path.points);
    return { ...path, points };
  });
}

/** A curve as it lies at its keys before and after a frame. */
export function ghostsOf(raw: Recipe, item: string, index: number, frame: number): PathPoint[][] {
  const step = findStep(raw, item);
  const points = step && valueIn(step, ["paths", index, "points"]);
  if (!isKeyed(points)) return [];
  const frames = points.keys.map((key) => key[0]);
  const before = frames.filter((each) => each < frame);
  const after = frames.filter((each) => each > frame);
  return [...(before.length ? [Math.max(...before)] : []), ...(after.length ? [Math.min(...after)] : [])].map(
    (each) => pointsOf(pathsOf({ ...lookedAt(raw, each), at: each }, item)[index] ?? {}),
  );
}

export function setPaths(recipe: Recipe, item: string, paths: ShapePath[]): Recipe {
  const own = paths.map((path) => {
    if (!path.movement || !path.points) return path;
    const back = () => movedPoints(path.points!, inverse(matrixAt(path.movement!, recipe.at ?? 1)));
    return { ...path, points: drawn.get(path.points) ?? back() };
  });
  return changeStep(recipe, item, (step) => ({ ...step, set: { ...step.set, paths: own } }));
}

/** Drawing of closed curves: points by clicking, curves by dragging; points, tangents and paths moved later. */
export function useDrawing({ recipe, item, zoom, onPath, onRecipe }: Context) {
  const tools = useTools();
  const { path, points: chosen, change } = tools;
  const [open, setOpen] = useState<PathPoint[]>([]);
  const grip = useRef<Grip | null>(null);
  const paths = pathsOf(recipe, item);
  const reach = REACH / zoom;

  const close = (points: PathPoint[]) => {
    setOpen([]);
    grip.current = null;
    // A double click sets its last point twice.
    const apart = points.filter(
      (point, index) =>
        index === 0 ||
        Math.hypot(point[0]! - points[index - 1]![0]!, point[1]! - points[index - 1]![1]!) > 1 / zoom,
    );
    if (apart.length >= 3) onPath({ points: apart });
  };
  const put = (index: number, points: PathPoint[], done: boolean) => {
    if (!item) return;
    onRecipe((before) => {
      const now = pathsOf(before, item);
      return setPaths(
        before,
        item,
        now.map((old, at) => (at === index ? withPoints(old, points) : old)),
      );
    }, done);
  };
  const latest = useRef({ open, path, chosen, paths, item });
  latest.current = { open, path, chosen, paths, item };

  useEffect(() => {
    if (tools.tool !== "shape") setOpen([]);
  }, [tools.tool]);
  useEffect(() => {
    if (tools.tool !== "shape") return;
    const press = (event: KeyboardEvent) => {
      if (isTyping(event.target)) return;
      const now = latest.current;
      if (event.key === "Enter" && now.open.length) close(now.open);
      else if (event.key === "Escape" && now.open.length) setOpen([]);
      else if ((event.key === "Delete" || event.key === "Backspace") && now.path !== null && now.item) {
        const own = now.paths[now.path];
        const left =
          own && now.chosen.length ? pointsOf(own).filter((_, at) => !now.chosen.includes(at)) : [];
        const gone = now.path;
        if (left.length >= 3) put(gone, left, true);
        else
          onRecipe(
            (before) =>
              setPaths(
                before,
                now.item!,
                pathsOf(before, now.item).filter((_, at) => at !== gone),
              ),
            true,
          );
        change({ points: [], path: left.length >= 3 ? gone : null });
      } else return;
      event.preventDefault();
      event.stopPropagation();
    };
    window.addEventListener("keydown", press, true);
    return () => window.removeEventListener("keydown", press, true);
  });

  const gesture: Gesture = {
    down: (at, event) => {
      const [x, y] = at;
      if (open.length) {
        const [fx, fy] = open[0]!;
        if (open.length >= 3 && Math.hypot(fx! - x, fy! - y) <= reach) return close(open);
        grip.current = { kind: "new", at };
        return setOpen([...open, [Math.round(x * 100) / 100, Math.round(y * 100) / 100]]);
      }
      const own = path === null ? undefined : paths[path];
      if (own && chosen.length === 1) {
        const [px, py, ix = 0, iy = 0, ox = 0, oy = 0] = pointsOf(own)[chosen[0]!] ?? [];
        for (const [which, dx, dy] of [
          ["out", ox, oy],
          ["in", ix, iy],
        ] as const)
          if ((dx || dy) && Math.hypot(px! + dx - x, py! + dy - y) <= reach) {
            grip.current = { kind: "tangent", which, index: chosen[0]!, both: !event.altKey };
            return;
          }
      }
      const begin = () => {
        change({ path: null, points: [] });
        grip.current = { kind: "new", at };
        setOpen([[Math.round(x * 100) / 100, Math.round(y * 100) / 100]]);
      };
      // A hole is drawn inside of what is there.
      if (event.altKey) return begin();
      for (const [index, each] of paths.entries()) {
        const list = pointsOf(each);
        const hit = list.findIndex(([px, py]) => Math.hypot(px! - x, py! - y) <= reach);
        if (hit < 0) continue;
        if (event.ctrlKey) {
          grip.current = { kind: "tangent", which: "out", index: hit, both: true };
          return change({ path: index, points: [hit] });
        }
        const already = path === index && chosen.includes(hit);
        const points =
          event.shiftKey && path === index
            ? already
              ? chosen.filter((other) => other !== hit)
              : [...chosen, hit]
            : already
              ? chosen
              : [hit];
        grip.current = { kind: "points", from: at, points: list };
        return change({ path: index, points });
      }
      const within = paths.findLastIndex((each) => {
        const list = pointsOf(each);
        return nearest(list, x, y).distance <= reach || inside(list, x, y);
      });
      if (within >= 0) {
        grip.current = { kind: "points", from: at, points: pointsOf(paths[within]!) };
        return change({ path: within, points: [] });
      }
      begin();
    },
    move: ([x, y]) => follow(x, y, false),
    up: ([x, y]) => {
      follow(x, y, true);
      grip.current = null;
    },
    giveUp: () => {
      if (grip.current?.kind === "new") setOpen((now) => now.slice(0, -1));
      // What was moved of a curve that is there is a drag of the recipe.
      else if (grip.current) useDraft.getState().giveUp();
      grip.current = null;
    },
    twice: ([x, y]) => {
      if (open.length >= 3) return close(open);
      const index = paths.findIndex((each) => nearest(pointsOf(each), x, y).distance <= reach);
      const own = paths[index];
      if (!own) return;
      const { index: curve, t } = nearest(pointsOf(own), x, y);
      put(index, split(pointsOf(own), curve, t), true);
      change({ path: index, points: [curve + 1] });
    },
  };

  function follow(x: number, y: number, done: boolean): void {
    const held = grip.current;
    if (!held) return;
    if (held.kind === "new") {
      const [dx, dy] = [x - held.at[0], y - held.at[1]];
      if (Math.hypot(dx, dy) > reach / 2)
        setOpen((now) => [...now.slice(0, -1), bent(now.at(-1) ?? [...held.at], "out", dx, dy, true)]);
      return;
    }
    if (path === null) return;
    const own = paths[path];
    if (!own) return;
    if (held.kind === "tangent") {
      const list = pointsOf(own);
      const [px, py] = list[held.index]!;
      const turned = bent(list[held.index]!, held.which, x - px!, y - py!, held.both);
      put(
        path,
        list.map((old, at) => (at === held.index ? turned : old)),
        done,
      );
      return;
    }
    const [dx, dy] = [x - held.from[0], y - held.from[1]];
    if (dx === 0 && dy === 0) {
      if (done) onRecipe((before) => before, true);
      return;
    }
    const all = chosen.length === 0;
    put(
      path,
      held.points.map((old, at) => (all || chosen.includes(at) ? moved(old, dx, dy) : old)),
      done,
    );
  }

  return { gesture, open };
}
