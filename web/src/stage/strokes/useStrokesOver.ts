import { useEffect, useLayoutEffect, useMemo, useState } from "react";

import { type Recipe, findStep, itemOf } from "@/api/recipe";
import { type Stroke, strokesOf } from "@/benches/mattes/strokes";

import { type Look, contour, paint, removed, unlike } from "../painting";
import { askedFor } from "../planes";
import type { DrawnPlanes, PaneContent } from "../usePane";
import { strokesBeyond } from "./pending";
import { type Paint, StrokeCanvas } from "./strokeCanvas";
import { letGo, useStrokeInHand } from "./strokeInHand";

/** What of a pane the strokes of an item are seen in: its picture, or the matte that is laid over it. */
function surfaceOf(pane: PaneContent, item: string): "shown" | "over" {
  const laid = pane.kind === "hatch" || pane.kind === "contour";
  const address = laid && pane.over ? askedFor(pane.over.planes)?.address : null;
  return address && itemOf(address) === item ? "over" : "shown";
}

function paintOf(pane: PaneContent, surface: "shown" | "over", look: Look): Paint {
  if (surface === "shown") return (planes) => paint(planes, look);
  if (pane.kind !== "contour") return removed;
  const colour = pane.shown ? unlike(pane.shown.planes) : null;
  return (planes) => contour(planes, colour ?? [255, 255, 255]);
}

const holds = (strokes: readonly Stroke[], stroke: Stroke) =>
  strokes.some((each) => JSON.stringify(each) === JSON.stringify(stroke));

/**
 * A pane with the strokes of an item that its picture does not hold yet, the one in hand included: what is seen while
 * somebody paints is what the operation makes of it.
 */
export function useStrokesOver(
  pane: PaneContent,
  item: string | null,
  recipe: Recipe,
  look: Look,
): PaneContent {
  const { stroke: inHand, finished } = useStrokeInHand();
  const stroke = inHand && inHand.item === item ? inHand : null;
  const surface = item ? surfaceOf(pane, item) : "shown";
  const base = pane[surface];
  const ask = base ? askedFor(base.planes) : undefined;
  const pending = useMemo(() => {
    const known = item && ask ? strokesBeyond(ask.recipe, recipe, item) : [];
    // A stroke that was let go stays until the recipe that is drawn here has it.
    return finished && stroke && !holds(known, finished) ? [...known, finished] : known;
  }, [item, ask, recipe, finished, stroke]);
  const wanted = base !== null && ask !== undefined && (stroke !== null || pending.length > 0);
  // Counts how often strokes were taken away that cannot be taken off a picture.
  const [discarded, setDiscarded] = useState(0);
  const lookKey = JSON.stringify({ ...look, backing: look.backing.kind === "planes" ? null : look.backing });
  const behind = look.backing.kind === "planes" ? look.backing.planes : null;
  const live = useMemo(
    () =>
      wanted && base && ask
        ? new StrokeCanvas(base.planes, ask.address, base.bitmap, paintOf(pane, surface, look))
        : null,
    // The keys stand for the look.
    // eslint-disable-next-line react-hooks/exhaustive-deps
    [wanted, base, ask, surface, lookKey, behind, discarded],
  );

  useLayoutEffect(() => {
    if (live && !live.lay(pending)) setDiscarded((count) => count + 1);
  }, [live, pending, stroke]);
  useEffect(() => {
    if (!live || !stroke || stroke.isFinished) return;
    live.begin(stroke.brushed);
    live.extend(stroke.points, stroke.tip);
    const leave = stroke.watch((finished) => {
      live.extend(stroke.points, stroke.tip);
      if (finished) live.end(finished);
    });
    return leave;
  }, [live, stroke]);

  useEffect(() => {
    if (finished && item && holds(strokesOf(findStep(recipe, item)), finished)) letGo(finished);
  }, [finished, item, recipe]);

  const painted = useMemo<DrawnPlanes | null>(
    () => (live ? { bitmap: live.canvas, planes: live.planes, live } : null),
    [live],
  );
  return useMemo(() => (painted ? { ...pane, [surface]: painted } : pane), [pane, painted, surface]);
}
