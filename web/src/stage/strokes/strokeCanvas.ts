import type { Stroke } from "@/benches/mattes/strokes";

import type { Planes } from "../painting";
import type { Box } from "./coverage";
import { type Brushed, LaidPlanes } from "./laidPlanes";
import type { StrokePoint } from "./thinning";

/** Turns planes into the bytes of a picture. */
export type Paint = (planes: Planes) => Uint8ClampedArray<ArrayBuffer>;

/**
 * A picture of the stage with strokes on it that the server has not computed yet. Only what a stroke changes is painted
 * again.
 */
export class StrokeCanvas {
  readonly canvas: HTMLCanvasElement;
  private readonly context: CanvasRenderingContext2D;
  private readonly laid: LaidPlanes;
  /** The strokes that are on it, by their text. */
  private strokes: string[] = [];
  /** A stroke lies on it that is not finished. */
  private open = false;
  private readonly watchers = new Set<(changed: Box) => void>();

  /** `bitmap` is the picture of the planes, `address` what they show. */
  constructor(
    base: Planes,
    address: string,
    bitmap: CanvasImageSource,
    private readonly paint: Paint,
  ) {
    this.laid = new LaidPlanes(base, address);
    this.canvas = document.createElement("canvas");
    [this.canvas.width, this.canvas.height] = [base.region[2], base.region[3]];
    this.context = this.canvas.getContext("2d", { willReadFrequently: true })!;
    this.context.drawImage(bitmap, 0, 0);
  }

  get planes(): Planes {
    return this.laid.planes;
  }

  /** Tells which samples look different, until what this returns is called. */
  watch(watcher: (changed: Box) => void): () => void {
    this.watchers.add(watcher);
    return () => this.watchers.delete(watcher);
  }

  /** Lay these strokes; false where others are on it already, which cannot be taken away. */
  lay(strokes: readonly Stroke[]): boolean {
    const texts = strokes.map((stroke) => JSON.stringify(stroke));
    if (this.open || this.strokes.some((text, at) => text !== texts[at])) return false;
    for (const stroke of strokes.slice(this.strokes.length)) this.show(this.laid.lay(stroke));
    this.strokes = texts;
    return true;
  }

  begin(brushed: Brushed): void {
    this.open = true;
    this.laid.begin(brushed);
  }

  extend(points: readonly StrokePoint[], tip: StrokePoint | null): void {
    this.show(this.laid.extend(points, tip));
  }

  /** The stroke in hand is done: it is this one. */
  end(stroke: Stroke): void {
    this.open = false;
    this.laid.end();
    this.strokes.push(JSON.stringify(stroke));
  }

  private show(box: Box | null): void {
    if (!box) return;
    // An outline is drawn by what lies beside it, too.
    const [, , width, height] = this.planes.region;
    const x = Math.max(0, box[0] - 2);
    const y = Math.max(0, box[1] - 2);
    const right = Math.min(width, box[0] + box[2] + 2);
    const bottom = Math.min(height, box[1] + box[3] + 2);
    const pixels = this.paint(this.laid.part([x, y, right - x, bottom - y]));
    const image = new ImageData(pixels, right - x, bottom - y);
    const [inX, inY] = [x > 0 ? 1 : 0, y > 0 ? 1 : 0];
    const [outX, outY] = [right < width ? 1 : 0, bottom < height ? 1 : 0];
    this.context.putImageData(image, x, y, inX, inY, image.width - inX - outX, image.height - inY - outY);
    for (const watcher of this.watchers) watcher([x, y, right - x, bottom - y]);
  }
}
