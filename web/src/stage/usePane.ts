import { useCallback, useEffect, useMemo, useRef, useState } from "react";

import type { Problem } from "@/api/client";
import type { Recipe } from "@/api/recipe";
import { useSettled } from "@/parts/useSettled";
import { useDraft } from "@/shot/draft";
import { lookedAt } from "@/time/keys";
import { useTime } from "@/time/timeState";

import { type Placement, scaleFor, visibleRegion } from "./geometry";
import { dropPainted, paintIn, paintedAs } from "./painter";
import type { Backing, Look, Planes } from "./painting";
import { type Sooner, type ViewAsk, useLivePlanes } from "./planes";
import type { StrokeCanvas } from "./strokes/strokeCanvas";
import type { DiagnosedAs } from "./viewState";

/** Planes and the picture that they were painted as. */
export interface PaintedPlanes {
  bitmap: ImageBitmap;
  planes: Planes;
}

/** What a pane draws: painted planes, or a picture that strokes change in place. */
export interface DrawnPlanes {
  bitmap: ImageBitmap | HTMLCanvasElement;
  planes: Planes;
  live?: StrokeCanvas;
}

export type Laid = "hatch" | "contour" | "unsure";

interface Layer {
  recipe: Recipe;
  address: string;
  channels: string[] | null;
  fringe?: DiagnosedAs | null;
}

export interface PaneAsk {
  name: string;
  shot: number;
  display: [number, number, number, number] | null;
  placement: Placement | null;
  picture: Layer | null;
  /** Laid over the picture: a matte as hatching or as a contour, or a tint where one is unsure. */
  matte: { address: string; kind: Laid; recipe?: Recipe } | null;
  backing: Backing | { kind: "item"; address: string };
  exposure: number;
  /** The colour that a lone channel is shown in. */
  tint: Look["tint"];
}

/**
 * What a pane asks for of a layer. What is dragged is followed with a quarter of the samples, and no more of each than
 * is seen; it is there in full as soon as it stands still. Of a matte that is laid over a picture its own values are
 * seen, at any exposure.
 */
function wantedOf(ask: PaneAsk, layer: Layer | null, view: string, dragged: boolean): ViewAsk | null {
  if (!layer || !ask.placement || !ask.display) return null;
  const scale = scaleFor(ask.placement.zoom, window.devicePixelRatio, dragged);
  const region = visibleRegion(ask.placement, ask.display, scale);
  const exposure = view === "matte" ? 0 : ask.exposure;
  return region && { ...layer, scale, region, view: `${ask.name}-${view}`, ...(dragged ? { exposure } : {}) };
}

/** The picture of a pane that shows the draft, as soon as the draft changes. */
function useSooner(ask: PaneAsk): Sooner {
  const shown = useRef(ask);
  useEffect(() => {
    shown.current = ask;
  });
  return useCallback(
    (tell) =>
      useDraft.subscribe((now, before) => {
        const [{ picture }, { frame }] = [shown.current, useTime.getState()];
        if (now.recipe === before.recipe) return;
        if (!picture || picture.recipe !== lookedAt(before.recipe, frame)) return;
        const next = { ...picture, recipe: lookedAt(now.recipe, frame) };
        const wanted = wantedOf(shown.current, next, "picture", now.moving);
        if (wanted) tell(wanted);
      }),
    [],
  );
}

/** What one pane draws, and what is known of it. */
export interface PaneContent {
  shown: DrawnPlanes | null;
  over: DrawnPlanes | null;
  kind: Laid | undefined;
  problem: Problem | null;
  late: boolean;
  planes: Planes | null;
  backing: Backing;
  waiting: Waiting[];
}

/** Everything that one pane draws: its picture and its overlay, fetched and painted as they change. */
export function usePane(ask: PaneAsk): PaneContent {
  const recipe = ask.picture?.recipe ?? null;
  const still = useSettled(recipe);
  const dragged = useDraft((state) => state.moving) && still !== recipe;
  const wanted = (layer: Layer | null, view: string) => wantedOf(ask, layer, view, dragged);

  const tint = ask.tint ? { tint: ask.tint } : {};
  const lookKey = JSON.stringify([ask.exposure, ask.backing, ask.tint]);
  const picture = useLivePlanes(
    ask.shot,
    wanted(ask.picture, "picture"),
    // Over another item it can be painted only where both are there.
    ask.backing.kind === "item"
      ? null
      : { look: { exposure: ask.exposure, backing: ask.backing, ...tint }, key: lookKey },
    useSooner(ask),
  );
  const overlay = useLivePlanes(
    ask.shot,
    ask.matte && ask.picture
      ? wanted(
          { recipe: ask.matte.recipe ?? ask.picture.recipe, address: ask.matte.address, channels: null },
          "matte",
        )
      : null,
  );
  const behind = useLivePlanes(
    ask.shot,
    ask.backing.kind === "item" && ask.picture
      ? wanted({ recipe: ask.picture.recipe, address: ask.backing.address, channels: null }, "behind")
      : null,
  );

  const backing: Backing =
    ask.backing.kind !== "item"
      ? ask.backing
      : behind.planes && known(behind)
        ? { kind: "planes", planes: behind.planes }
        : { kind: "colour", rgb: [0, 0, 0] };
  const look: Look = { exposure: ask.exposure, backing, ...tint };
  const painted = usePainted(
    picture.planes,
    (planes) => ({ kind: "paint", planes, look }),
    [lookKey, ask.backing.kind === "item" ? behind.planes : null],
    lookKey,
  );
  const kind = ask.matte?.kind;
  const laid = usePainted(
    // What could not be computed has no overlay, and none of before either.
    known(overlay) ? overlay.planes : null,
    (planes) =>
      kind && kind !== "hatch" && picture.planes
        ? { kind, planes, picture: picture.planes }
        : { kind: "removed", planes },
    [kind, kind !== "hatch" ? picture.planes : null],
  );
  const problem = picture.problem ?? painted.problem;
  const [shown, over] = [painted.shown, laid.shown];
  const [late, planes] = [picture.late, picture.planes];
  const matte = ask.matte?.address;
  const under = ask.backing.kind === "item" ? ask.backing.address : undefined;
  const waits: Waiting[] = [];
  if (ask.picture) {
    const { recipe, address } = ask.picture;
    const parts = [
      [address, picture, recipe],
      [matte, overlay, ask.matte?.recipe ?? recipe],
      [under, behind, recipe],
    ] as const;
    for (const [of, { problem: why, planes: seen }, its] of parts) {
      // How unsure a matte is comes for next to nothing, once the matte itself is there.
      if (its !== recipe && picture.problem?.code === "pending") continue;
      if (of && why?.code === "pending")
        waits.push({ recipe: its, address: of, problem: why, rough: why === seen?.pending });
    }
  }
  const waiting = useRef(waits);
  if (JSON.stringify(waiting.current.map(keyOf)) !== JSON.stringify(waits.map(keyOf)))
    waiting.current = waits;
  return useMemo(
    () => ({
      shown,
      over: kind ? over : null,
      kind,
      problem,
      late,
      planes,
      backing,
      waiting: waiting.current,
    }),
    // The key stands for the backing, whose planes are counted on their own.
    // eslint-disable-next-line react-hooks/exhaustive-deps
    [shown, over, kind, problem, late, planes, lookKey, behind.planes, waiting.current],
  );
}

/** Whether planes are what was asked for, be it roughly. */
const known = ({ planes, problem }: { planes: Planes | null; problem: Problem | null }) =>
  !problem || problem === planes?.pending;

/** Something that a pane shows and that waits for a slow step. */
export interface Waiting {
  recipe: Recipe;
  address: string;
  problem: Problem;
  /** Whether it is shown roughly meanwhile. */
  rough: boolean;
}

const keyOf = ({ address, problem, recipe, rough }: Waiting) => [address, problem.where, recipe, rough];

/** Planes painted as they change; `look` is what their picture is known by where it may have come with them. */
export function usePainted(
  planes: Planes | null,
  job: (planes: Planes) => Parameters<typeof paintIn>[1],
  inputs: unknown[],
  look?: string,
): { shown: PaintedPlanes | null; problem: Problem | null } {
  const [shown, setShown] = useState<PaintedPlanes | null>(null);
  // What came painted is shown with the planes, and not once the page has been drawn with them.
  const bitmap = planes && look !== undefined ? paintedAs(planes, look) : null;
  const came = useMemo(() => (planes && bitmap ? { planes, bitmap } : null), [planes, bitmap]);
  const [problem, setProblem] = useState<Problem | null>(null);
  const order = useRef(0);
  useEffect(() => {
    const mine = ++order.current;
    if (!planes) {
      setShown(null);
      return;
    }
    if (came) {
      setShown(came);
      setProblem(null);
      return;
    }
    if (look !== undefined && shown?.planes !== planes) dropPainted(planes);
    void paintIn("stage", job(planes)).then(
      (bitmap) => {
        if (mine !== order.current) {
          bitmap.close();
          return;
        }
        setShown({ bitmap, planes });
        setProblem(null);
      },
      (fault: unknown) => {
        if (mine !== order.current) return;
        setShown(null);
        setProblem({
          code: "painting",
          message: `the picture came and could not be painted (${String(fault)})`,
          where: "",
          remedy: "choose another view; if it happens again, tell who runs this server",
        });
      },
    );
    // `job` follows from the inputs.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [planes, came, ...inputs]);
  // A bitmap holds memory that nobody collects.
  useEffect(() => {
    return () => shown?.bitmap.close();
  }, [shown]);
  return { shown: came ?? shown, problem };
}
