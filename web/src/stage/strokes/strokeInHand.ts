import { create } from "zustand";

import type { Stroke } from "@/benches/mattes/strokes";

import type { Brushed } from "./laidPlanes";
import { type StrokePoint, Thinning } from "./thinning";

/** Told of more points, and of the whole stroke once it is finished. */
type Watcher = (finished: Stroke | null) => void;

/** Screen pixels from the last point that stays to the tip, at most. */
const TIP_REACH = 96;

/**
 * The stroke that is being painted. Its points come as fast as the device tells them; whoever draws it is told once for
 * each frame of the screen.
 */
export class StrokeInHand {
  private readonly thinning: Thinning;
  private readonly watchers = new Set<Watcher>();
  private frame = 0;
  isFinished = false;

  constructor(
    /** The item that it is painted on. */
    readonly item: string,
    readonly brushed: Brushed,
    first: StrokePoint,
    /** Screen pixels for a picture pixel. */
    zoom: number,
  ) {
    this.thinning = new Thinning(first, brushed.radius, Math.max(brushed.radius, TIP_REACH / zoom));
  }

  get points(): readonly StrokePoint[] {
    return this.thinning.kept;
  }

  get tip(): StrokePoint {
    return this.thinning.tip;
  }

  add(point: StrokePoint): void {
    this.thinning.add(point);
    this.frame ||= requestAnimationFrame(() => this.tell());
  }

  /** The stroke as it goes into the recipe. */
  finish(): Stroke {
    const stroke = { points: this.thinning.finished(), ...this.brushed };
    this.isFinished = true;
    this.tell(stroke);
    return stroke;
  }

  watch(watcher: Watcher): () => void {
    this.watchers.add(watcher);
    return () => this.watchers.delete(watcher);
  }

  private tell(finished: Stroke | null = null): void {
    cancelAnimationFrame(this.frame);
    this.frame = 0;
    for (const watcher of this.watchers) watcher(finished);
  }
}

/** Milliseconds after which a stroke that no recipe took up is gone. */
const FORGOTTEN_MS = 2000;

interface InHand {
  /** The one stroke in hand, none while nothing is painted. */
  stroke: StrokeInHand | null;
  /** The same once it is let go, until a recipe that is drawn has it. */
  finished: Stroke | null;
}

export const useStrokeInHand = create<InHand>(() => ({ stroke: null, finished: null }));

export function takeInHand(stroke: StrokeInHand | null): void {
  useStrokeInHand.setState({ stroke, finished: null });
}

/** The stroke in hand is done. */
export function finishInHand(finished: Stroke): void {
  useStrokeInHand.setState({ finished });
  setTimeout(() => letGo(finished), FORGOTTEN_MS);
}

/** A finished stroke is seen without the hand that painted it. */
export function letGo(finished: Stroke): void {
  if (useStrokeInHand.getState().finished === finished) takeInHand(null);
}
