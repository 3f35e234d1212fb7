import { useEffect, useRef } from "react";

import type { Item } from "@/api/client";
import { type Recipe, type Step, findStep, firstInput, freeName, insertAfter } from "@/api/recipe";
import { useDraft } from "@/shot/draft";
import { sourceOf, useMarksOf } from "@/shot/marks";
import { Drawings } from "@/stage/Drawings";
import { pictureOf } from "@/stage/focus";
import type { Placement } from "@/stage/geometry";
import { Overlay } from "@/stage/Overlay";
import { useTools } from "@/stage/tools";

import { useDoubts } from "./doubtState";
import { addStroke, isTold, tellSide } from "./strokes";
import { ghostsOf, pathsOf, setPaths, useDrawing } from "./useDrawing";
import { useMarking } from "./useMarking";
import { usePainting } from "./usePainting";

interface Props {
  recipe: Recipe;
  items: Item[];
  item: string | null;
  placement: Placement;
  writable: boolean;
  onHover: (at: [number, number] | null) => void;
  onPut: (change: (before: Recipe) => [Recipe, string]) => void;
}

/** What the Mattes bench does on the stage itself: marks, strokes, shapes, and the thin parts that vanish. */
export function StageTools({ recipe, items, item, placement, writable, onHover, onPut }: Props) {
  const { tool, lost, path, points, scouting, ghosts, change } = useTools();
  const raw = useDraft((state) => state.recipe);
  const own = useMarksOf(item);
  const { places: unsure, at: unsureAt } = useDoubts();
  const marks = scouting ? own : [];
  const edit = useDraft((state) => state.edit);
  const described = (name: string | null | undefined) =>
    items.find((entry) => entry.name === name && !entry.problem);
  const known = described(item);
  const step = item ? findStep(recipe, item) : undefined;
  // A touch-up that was just made is not described yet; it is what it is fed with.
  const surface = known ?? (step?.op === "touch_up" ? described(firstInput(step)) : undefined);
  const zoom = placement.zoom;

  const drawn = useRef(false);
  const marking = useMarking(sourceOf(recipe, item));
  const painting = usePainting({
    recipe,
    item,
    surface,
    zoom,
    onStroke: (stroke) => {
      if (!item) return;
      if (tool === "keep" || tool === "drop") edit((before) => tellSide(before, item, stroke, tool));
      else onPut((before) => addStroke(before, item, stroke));
    },
    onRecipe: edit,
  });
  const drawing = useDrawing({
    recipe,
    item,
    zoom,
    onPath: (closed) => {
      const step = item ? findStep(recipe, item) : undefined;
      const index = step?.op === "shape" ? pathsOf(recipe, item).length : 0;
      // The step that it becomes comes into focus with it in hand.
      drawn.current = step?.op !== "shape";
      onPut((before) => {
        if (item && findStep(before, item)?.op === "shape")
          return [setPaths(before, item, [...pathsOf(before, item), closed]), item];
        const like = (known && !known.plane ? known.name : item && pictureOf(before, items, item)) ?? item;
        const name = freeName(before, "shape");
        const added: Step = { name, op: "shape", in: like ? { like } : {}, set: { paths: [closed] } };
        return [insertAfter(before, added, item && findStep(before, item) ? item : null), name];
      });
      change({ path: index, points: [] });
    },
    onRecipe: edit,
  });
  const told = isTold(step);
  useEffect(() => {
    if (!told && (tool === "keep" || tool === "drop")) change({ tool: "none" });
  }, [told, tool, change]);
  useEffect(() => {
    if (!drawn.current) change({ stroke: null, path: null, points: [] });
    drawn.current = false;
  }, [item, change]);

  const drawings = (
    <Drawings
      placement={placement}
      marks={marks}
      lost={lost}
      unsure={unsure}
      unsureAt={unsureAt}
      paths={pathsOf(recipe, item)}
      open={tool === "shape" ? drawing.open : []}
      path={path}
      chosen={points}
      ghosts={ghosts && item && path !== null ? ghostsOf(raw, item, path, recipe.at ?? 1) : []}
    />
  );
  const place = { width: placement.width, height: placement.height };
  if (tool === "none" || !writable)
    return (
      <div className="pointer-events-none absolute left-0 top-0" style={place}>
        {drawings}
      </div>
    );
  return (
    <div className="absolute left-0 top-0" style={place}>
      <Overlay
        placement={placement}
        gesture={
          tool === "shape"
            ? drawing.gesture
            : tool === "subject" || tool === "background"
              ? marking
              : painting.gesture
        }
        onHover={onHover}
      >
        {drawings}
        {tool === "touch" && painting.refused && (
          <p role="alert" className="absolute inset-x-0 top-3 text-center text-[12px] text-clay">
            <span className="rounded-sm border border-clay bg-panel px-3 py-1">
              {item} has no alpha to paint on; add one in the panel
            </span>
          </p>
        )}
      </Overlay>
    </div>
  );
}
