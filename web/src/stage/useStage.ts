import { useMemo, useRef } from "react";

import type { Item } from "@/api/client";
import { findStep, firstInput, itemOf, recipeKey, type Recipe } from "@/api/recipe";

import { backingOf } from "./backdrops";
import { matteOver } from "./focus";
import { lookedAt } from "@/time/keys";
import { usePlayback } from "@/time/usePlayback";
import { useDraft } from "@/shot/draft";

import { place, scaleFor, visibleRegion } from "./geometry";
import { type Look, ownColour } from "./painting";
import { useStrokesOver } from "./strokes/useStrokesOver";
import { usePane } from "./usePane";
import { useView } from "./viewState";

type Display = [number, number, number, number];

/** What the stage shows in a box of a size: the item in focus, what it is compared with, and its fringe. */
export function useStage(
  shot: number,
  recipe: Recipe,
  items: Item[],
  item: string | null,
  size: [number, number],
) {
  const view = useView();
  const known = items.find((entry) => entry.name === item);
  // A step that was just added is not described yet: until it is, the stage shows what it showed before.
  const before = useRef<{
    display: Display;
    picture: { recipe: Recipe; address: string; channels: string[] | null };
  }>(undefined);
  const display = (known?.display ?? (item ? before.current?.display : undefined)) as Display | undefined;

  const two = view.panes === "two";
  const alone = view.alone && view.alone.item === item ? view.alone.channels : null;
  // Over which backdrop a lone channel lies makes no difference.
  const four = view.panes === "four" && !alone;
  const width = two || four ? Math.floor((size[0] - 1) / 2) : size[0];
  const height = four ? Math.floor((size[1] - 1) / 2) : size[1];
  const placement = useMemo(
    () => (display && width > 0 ? place(display, width, height, view.zoom, view.centre) : null),
    [display, width, height, view.zoom, view.centre],
  );

  const over = alone ? null : matteOver(recipe, items, known);
  const laid = over && view.matte !== "off" ? over : null;
  const address = laid ? (view.matte === "alone" ? laid.matte : laid.picture) : (item ?? "");
  const tintOf = (channels: string[] | null) =>
    view.inColour && channels?.length === 1 ? ownColour(channels[0]!) : undefined;

  // A step of the weave is 10 screen pixels wide at any zoom, in whole steps of a factor of two.
  const cell = placement ? 10 / 2 ** Math.round(Math.log2(placement.zoom)) : 10;
  const backing = backingOf(view.backdrop, view.own, cell);
  const common = { shot, placement, backing, exposure: view.exposure };
  const current = item && known && !known.problem ? { recipe, address, channels: alone } : null;
  if (current && display) before.current = { display, picture: current };
  const tint = tintOf(alone);
  const told = view.fringe && view.fringe.item === item ? view.fringe.told : null;
  const computed = usePane({
    ...common,
    name: "main",
    display: display ?? null,
    picture: view.preview
      ? { recipe: view.preview.recipe, address: view.preview.address, channels: null }
      : (current ?? (item && !known ? (before.current?.picture ?? null) : null)),
    matte:
      laid && !view.preview && (view.matte === "hatch" || view.matte === "contour")
        ? { address: laid.matte, kind: view.matte }
        : view.unsure && view.unsure.item === item && !view.preview && !alone
          ? { address: item, kind: "unsure", recipe: view.unsure.recipe }
          : null,
    tint,
  });
  const main = useStrokesOver(computed, view.preview || told ? null : item, recipe, {
    exposure: view.exposure,
    backing: computed.backing,
    ...(tint ? { tint } : {}),
  });
  // What is hatched or drawn round at a frame is so at the same frame.
  const raw = useDraft((state) => state.recipe);
  const kind = laid && (view.matte === "hatch" || view.matte === "contour") ? view.matte : undefined;
  const scale = placement ? scaleFor(placement.zoom, window.devicePixelRatio) : 1;
  const region = placement && display ? visibleRegion(placement, display, scale) : null;
  const look: Look | null =
    backing.kind === "item" ? null : { exposure: view.exposure, backing, ...(tint ? { tint } : {}) };
  const played = usePlayback(
    current && region && look && !view.preview
      ? {
          shot,
          picture: (frame) => ({ recipe: lookedAt(raw, frame), address, channels: alone, scale, region }),
          matte: kind
            ? (frame) => ({ recipe: lookedAt(raw, frame), address: laid!.matte, scale, region })
            : null,
          kind,
          look,
        }
      : null,
    JSON.stringify([shot, recipeKey(raw), address, alone, scale, region, look, kind]),
  );
  const moving = useMemo(
    () =>
      played && {
        ...main,
        shown: played.picture,
        over: played.over,
        kind,
        problem: null,
        late: false,
        planes: played.picture.planes,
        waiting: [],
      },
    [played, main, kind],
  );
  const compared =
    view.panes === "split" || view.panes === "blink" || view.panes === "difference" ? view.panes : null;
  const second = view.pin ?? firstOf(recipe, items, item);
  const other = usePane({
    ...common,
    name: "other",
    display: display ?? null,
    picture: (two || compared || (four && view.pin)) && second ? second : null,
    matte: null,
    tint: tintOf(second?.channels ?? null),
  });

  const fringe = usePane({
    ...common,
    name: "fringe",
    display: display ?? null,
    picture: told && current && !alone ? { ...current, fringe: told } : null,
    matte: null,
    tint: undefined,
  });

  const probed = useMemo(() => {
    const names = [item, over && itemOf(over.picture) !== item ? over.picture : null];
    return names.filter((name): name is string => name !== null && name !== undefined);
  }, [item, over]);

  const label = view.preview
    ? `Preview: ${view.preview.label}`
    : alone
      ? `${item} · ${alone.join(" + ")}`
      : laid && view.matte !== "alone"
        ? `${laid.picture} · ${view.matte === "hatch" ? "hatched where" : "contour of"} ${itemOf(laid.matte)} ${view.matte === "hatch" ? "removes" : "at 0.5"}`
        : address;
  const otherLabel = second
    ? `${view.pin ? "Pin: " : ""}${second.address}${second.channels ? ` · ${second.channels.join(" + ")}` : ""}`
    : "";

  // One note for each slow step, whatever waits for it.
  const waiting = [...main.waiting, ...other.waiting, ...fringe.waiting].filter(
    (wait, index, all) =>
      all.findIndex(
        (earlier) => earlier.recipe === wait.recipe && earlier.problem.where === wait.problem.where,
      ) === index,
  );

  return {
    known,
    display,
    waiting,
    placement,
    two,
    four,
    compared: second ? compared : null,
    alone,
    address,
    probed,
    label,
    otherLabel,
    told: alone ? null : told,
    main: moving ?? main,
    /** The same without strokes that are not computed yet. */
    computed: moving ?? computed,
    other,
    fringe,
  };
}

/** What a second pane shows without a pin: the first input of a step. */
function firstOf(recipe: Recipe, items: Item[], item: string | null) {
  const first = item ? firstInput(findStep(recipe, item)) : undefined;
  if (!first || items.find((entry) => entry.name === itemOf(first))?.problem) return null;
  return { recipe, address: first, channels: null };
}
