import { paintIn } from "@/stage/painter";
import type { Look, Planes } from "@/stage/painting";
import { type ViewAsk, fetchPlanes } from "@/stage/planes";
import type { PaintedPlanes } from "@/stage/usePane";

import { type Range, following } from "./range";
import { useTime } from "./timeState";

/** What a stage shows of one frame. */
export interface Played {
  frame: number;
  picture: PaintedPlanes;
  over: PaintedPlanes | null;
}

/** How each frame is asked for and painted. */
export interface ReelAsk {
  shot: number;
  picture: (frame: number) => ViewAsk;
  matte: ((frame: number) => ViewAsk) | null;
  kind: "hatch" | "contour" | undefined;
  look: Look;
}

export const MOST_BYTES = 384 << 20;
const AT_ONCE = 3;
const AHEAD = 240;

/** Painted frames of one view, fetched ahead of the playhead and kept within a bound of bytes. */
export class Reel {
  private readonly held = new Map<number, Played>();
  private readonly flying = new Map<number, AbortController>();
  private readonly failed = new Set<number>();
  private bytes = 0;
  private closed = false;

  constructor(
    private readonly ask: ReelAsk,
    private readonly most = MOST_BYTES,
  ) {}

  at(frame: number): Played | undefined {
    return this.held.get(frame);
  }

  /** A frame that could not be had: it is passed over. */
  lost(frame: number): boolean {
    return this.failed.has(frame);
  }

  /** What could not be had before is asked for again. */
  again(): void {
    this.failed.clear();
  }

  /** Fetch what comes next from a frame on, the nearest first. */
  fill(frame: number, range: Range, loop: boolean): void {
    const wanted: number[] = [];
    let next: number | null = frame;
    const room = Math.max(
      8,
      Math.floor(this.most / Math.max(1, this.bytes / Math.max(1, this.held.size))) - 2,
    );
    while (next !== null && wanted.length < Math.min(AHEAD, room) && !(wanted.length && next === frame)) {
      wanted.push(next);
      next = following(next, range, loop);
    }
    for (const [each, abort] of this.flying) if (!wanted.includes(each)) abort.abort();
    for (const each of wanted) {
      if (this.flying.size >= AT_ONCE) break;
      if (!this.held.has(each) && !this.flying.has(each) && !this.failed.has(each))
        void this.fetch(each, wanted);
    }
  }

  private async fetch(frame: number, wanted: readonly number[]): Promise<void> {
    const abort = new AbortController();
    this.flying.set(frame, abort);
    const { shot, picture, matte, kind, look } = this.ask;
    try {
      const [planes, laid] = await Promise.all([
        fetchPlanes(shot, picture(frame), abort.signal),
        matte ? fetchPlanes(shot, matte(frame), abort.signal) : null,
      ]);
      const over =
        laid &&
        (await paintIn(
          "stage",
          kind === "contour"
            ? { kind: "contour", planes: laid, picture: planes }
            : { kind: "removed", planes: laid },
        ));
      const bitmap = await paintIn("stage", { kind: "paint", planes, look });
      if (this.closed || abort.signal.aborted) {
        bitmap.close();
        over?.close();
        return;
      }
      this.put(
        {
          frame,
          picture: { bitmap, planes: laid ? planes : light(planes) },
          over: over && laid ? { bitmap: over, planes: laid } : null,
        },
        wanted,
      );
    } catch {
      if (!abort.signal.aborted) this.failed.add(frame);
    } finally {
      this.flying.delete(frame);
    }
  }

  private put(played: Played, wanted: readonly number[]): void {
    this.held.set(played.frame, played);
    this.bytes += weight(played);
    // What is wanted last, or not at all, makes room.
    const rank = (frame: number) => {
      const place = wanted.indexOf(frame);
      return place < 0 ? Infinity : place;
    };
    const worst = [...this.held.values()].sort((a, b) => rank(b.frame) - rank(a.frame));
    for (const each of worst) {
      if (this.bytes <= this.most || each === played) break;
      this.drop(each);
    }
    this.tell();
  }

  private drop(played: Played): void {
    this.held.delete(played.frame);
    this.bytes -= weight(played);
    // It may be on its way onto the stage.
    setTimeout(() => {
      played.picture.bitmap.close();
      played.over?.bitmap.close();
    }, 200);
  }

  private tell(): void {
    useTime.getState().change({ ready: new Set(this.held.keys()) });
  }

  close(): void {
    this.closed = true;
    for (const abort of this.flying.values()) abort.abort();
    for (const each of [...this.held.values()]) this.drop(each);
    this.tell();
  }
}

/** Planes without their samples, which nobody asks for once they are painted. */
const light = (planes: Planes): Planes => ({ ...planes, samples: [] });

function weight({ picture, over }: Played): number {
  const of = (each: PaintedPlanes | null) =>
    each
      ? each.bitmap.width * each.bitmap.height * 4 +
        each.planes.samples.reduce((sum, samples) => sum + samples.byteLength, 0)
      : 0;
  return of(picture) + of(over);
}
