import { restOf } from "@/api/recipe";
import type { Stroke } from "@/benches/mattes/strokes";

import { HALF_VALUES, halfOf } from "../halves";
import { type Planes, alphaOf, halvesIn } from "../painting";
import { type Box, type Dab, around, sweep } from "./coverage";
import type { StrokePoint } from "./thinning";

/** A stroke without its points. */
export type Brushed = Omit<Stroke, "points">;

/** A stroke that is being laid: how much of it covers each sample. */
interface Coverage {
  brushed: Brushed;
  /** Of the points that stay, and of the segment from the last of them to the tip. */
  fixed: Float32Array;
  tip: Float32Array;
  tipBox: Box | null;
  /** All that it can have changed so far. */
  box: Box | null;
  /** Points that are laid. */
  points: number;
}

/**
 * Planes of the stage with strokes laid over them, as the operation `touch_up` lays them: v + (value - v) * coverage *
 * opacity, coverage being the largest of a stroke's dabs. A stroke costs the same at its end as at its beginning: what
 * is new of it is laid onto what stands.
 */
export class LaidPlanes {
  /** What is seen; its samples change in place. */
  readonly planes: Planes;
  /** The samples before the stroke that is being laid. */
  private readonly before: Uint16Array[];
  private readonly now: Uint16Array<ArrayBuffer>[];
  private stroke: Coverage | null = null;

  /** `address` is what the planes show. */
  constructor(
    base: Planes,
    private readonly address: string,
  ) {
    this.now = base.samples.map((_, index) => halvesIn(base, index));
    this.before = this.now.map((samples) => samples.slice());
    const { bytes: _, ...about } = base;
    this.planes = { ...about, samples: this.now };
  }

  /** Lay a whole stroke; returns what it can have changed. */
  lay({ points, ...brushed }: Stroke): Box | null {
    this.begin(brushed);
    const box = this.extend(points, null);
    this.end();
    return box;
  }

  begin(brushed: Brushed): void {
    const size = this.planes.region[2] * this.planes.region[3];
    this.stroke = {
      brushed,
      fixed: new Float32Array(size),
      tip: new Float32Array(size),
      tipBox: null,
      box: null,
      points: 0,
    };
  }

  /**
   * Lay what is new of the stroke: all points that it keeps so far, and the tip beyond the last of them. Returns the box
   * of samples that it can have changed.
   */
  extend(points: readonly StrokePoint[], tip: StrokePoint | null): Box | null {
    const { stroke } = this;
    if (!stroke) return null;
    const [, , width, height] = this.planes.region;
    const radius = stroke.brushed.radius / this.planes.scale;
    const hardness = stroke.brushed.hardness ?? 1;
    let changed = stroke.tipBox;
    if (stroke.tipBox) clear(stroke.tip, width, stroke.tipBox);
    for (let at = Math.max(1, stroke.points); at < points.length; at++) {
      const [from, to] = [this.dab(points[at - 1]!), this.dab(points[at]!)];
      changed = around(changed, sweep(stroke.fixed, width, height, from, to, radius, hardness));
    }
    stroke.points = points.length;
    // A single point is a dab.
    const end = tip ?? (points.length === 1 ? points[0]! : null);
    stroke.tipBox = end
      ? sweep(stroke.tip, width, height, this.dab(points.at(-1)!), this.dab(end), radius, hardness)
      : null;
    changed = around(changed, stroke.tipBox);
    stroke.box = around(stroke.box, changed);
    if (changed) this.mix(stroke, changed);
    return changed;
  }

  /** The stroke stays as it is; the next one is laid over it. */
  end(): void {
    const box = this.stroke?.box;
    this.stroke = null;
    if (!box) return;
    const width = this.planes.region[2];
    for (const [index, samples] of this.now.entries())
      for (let row = box[1]; row < box[1] + box[3]; row++) {
        const start = row * width + box[0];
        this.before[index]!.set(samples.subarray(start, start + box[2]), start);
      }
  }

  /** The planes of a part of the region, their samples copied. */
  part([x, y, width, height]: Box): Planes {
    const [left, top, whole] = this.planes.region;
    const samples = this.now.map((from) => {
      const to = new Uint16Array(width * height);
      for (let row = 0; row < height; row++) {
        const start = (y + row) * whole + x;
        to.set(from.subarray(start, start + width), row * width);
      }
      return to;
    });
    return { ...this.planes, region: [left + x, top + y, width, height], samples };
  }

  private dab([x, y, pressure = 1]: StrokePoint): Dab {
    const { region, scale } = this.planes;
    return { x: x! / scale - region[0], y: y! / scale - region[1], pressure };
  }

  private mix({ brushed, fixed, tip }: Coverage, [x, y, width, height]: Box): void {
    const whole = this.planes.region[2];
    const opacity = brushed.opacity ?? 1;
    for (const index of this.planes.channels.keys()) {
      const value = valueFor(brushed, this.address, this.planes, index);
      if (value === null) continue;
      const [from, to] = [this.before[index]!, this.now[index]!];
      for (let row = y; row < y + height; row++)
        for (let at = row * whole + x; at < row * whole + x + width; at++) {
          const amount = Math.max(fixed[at]!, tip[at]!) * opacity;
          const old = HALF_VALUES[from[at]!]!;
          to[at] = amount === 0 ? from[at]! : halfOf(old + (value - old) * amount);
        }
    }
  }
}

/** The name of the one channel of an item that is a plane. */
const PLANE = "Y";

/** What a stroke paints a channel with; null where it leaves it alone. `address` is what the planes show. */
function valueFor({ value = 1, channels = [] }: Brushed, address: string, planes: Planes, index: number) {
  const [name, rest] = [planes.channels[index]!, restOf(address)];
  const names = planes.channels.length === 1 ? [name, rest] : [name];
  const all = channels.length === 0 || (name === PLANE && !rest);
  if (!all && !names.some((each) => channels.includes(each))) return null;
  // What is shown by colours that stand for something else, such as ids, keeps its alpha.
  if (planes.finished && index === alphaOf(planes)) return null;
  if (typeof value === "number") return value;
  const at = "RGB".indexOf(names.at(-1)!.split(".").pop() || name);
  return at >= 0 ? value[at]! : null;
}

function clear(buffer: Float32Array, whole: number, [x, y, width, height]: Box): void {
  for (let row = y; row < y + height; row++) buffer.fill(0, row * whole + x, row * whole + x + width);
}
