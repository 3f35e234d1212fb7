import type { Placement } from "./geometry";
import type { DrawnPlanes } from "./usePane";

const HATCH = 9;

/** Draw a painted picture where it belongs in the pane. */
export function drawShown(context: CanvasRenderingContext2D, shown: DrawnPlanes, placement: Placement): void {
  const { planes, bitmap } = shown;
  // A bitmap that was replaced and closed in the meantime has no size.
  if (bitmap.width === 0) return;
  const [x, y, width, height] = planes.region;
  const scale = planes.scale;
  // The last samples of an odd-sized proxy stand for pixels beyond the display window.
  const right = Math.min((x + width) * scale, planes.display[2]);
  const bottom = Math.min((y + height) * scale, planes.display[3]);
  // Seen smaller than it is, a picture has no pixels to be looked at: fewer samples while it is dragged are smoothed.
  context.imageSmoothingEnabled = planes.pending != null || placement.zoom < 1;
  // What is followed in the hand is stretched for a moment only: quickly.
  context.imageSmoothingQuality = planes.pending == null && scale * placement.zoom > 1 ? "low" : "high";
  context.drawImage(
    bitmap,
    0,
    0,
    (right - x * scale) / scale,
    (bottom - y * scale) / scale,
    (x * scale - placement.left) * placement.zoom,
    (y * scale - placement.top) * placement.zoom,
    (right - x * scale) * placement.zoom,
    (bottom - y * scale) * placement.zoom,
  );
}

/** The box of a pane, in its pixels, that samples of a picture's region are drawn in. */
export function boxOf(
  { planes: { region, scale } }: DrawnPlanes,
  [x, y, width, height]: [number, number, number, number],
  { left, top, zoom }: Placement,
): [number, number, number, number] {
  // What is smoothed reaches a few samples further.
  const [x0, y0] = [(region[0] + x - 2) * scale, (region[1] + y - 2) * scale];
  const [across, down] = [(width + 4) * scale * zoom, (height + 4) * scale * zoom];
  return [
    Math.floor((x0 - left) * zoom),
    Math.floor((y0 - top) * zoom),
    Math.ceil(across) + 1,
    Math.ceil(down) + 1,
  ];
}

let hatchCanvas: HTMLCanvasElement | null = null;

/** Moving diagonal lines over what a matte removes. */
export function drawHatch(
  context: CanvasRenderingContext2D,
  removed: DrawnPlanes,
  placement: Placement,
  colour: [number, number, number],
  phase: number,
): void {
  if (!removed.bitmap.width) return;
  const ratio = window.devicePixelRatio;
  hatchCanvas ??= document.createElement("canvas");
  hatchCanvas.width = Math.ceil(placement.width * ratio);
  hatchCanvas.height = Math.ceil(placement.height * ratio);
  const hatch = hatchCanvas.getContext("2d");
  if (!hatch) return;
  hatch.scale(ratio, ratio);
  hatch.strokeStyle = `rgb(${colour.join(" ")})`;
  hatch.lineWidth = 1.6;
  hatch.beginPath();
  for (let x = -placement.height - HATCH + (phase % HATCH); x < placement.width; x += HATCH) {
    hatch.moveTo(x, placement.height);
    hatch.lineTo(x + placement.height, 0);
  }
  hatch.stroke();
  hatch.globalCompositeOperation = "destination-in";
  drawShown(hatch, removed, placement);
  context.drawImage(hatchCanvas, 0, 0, placement.width, placement.height);
}

/** Lines between pixels, for zooms above 8. */
export function drawGrid(
  context: CanvasRenderingContext2D,
  placement: Placement,
  display: [number, number, number, number],
): void {
  if (placement.zoom <= 8) return;
  context.strokeStyle = "rgb(128 128 128 / 0.35)";
  context.lineWidth = 1;
  context.beginPath();
  const x1 = Math.min(display[2], placement.left + placement.width / placement.zoom);
  const y1 = Math.min(display[3], placement.top + placement.height / placement.zoom);
  const x0 = Math.max(0, Math.floor(placement.left));
  const y0 = Math.max(0, Math.floor(placement.top));
  const screen = (value: number, start: number) => Math.round((value - start) * placement.zoom) + 0.5;
  for (let x = x0; x <= x1; x++) {
    context.moveTo(screen(x, placement.left), screen(y0, placement.top));
    context.lineTo(screen(x, placement.left), screen(y1, placement.top));
  }
  for (let y = y0; y <= y1; y++) {
    context.moveTo(screen(x0, placement.left), screen(y, placement.top));
    context.lineTo(screen(x1, placement.left), screen(y, placement.top));
  }
  context.stroke();
}

/** Clip to one side of the split line: -1 what lies left of (or above) it, 1 the other side. */
export function clipToSide(
  context: CanvasRenderingContext2D,
  width: number,
  height: number,
  split: { x: number; y: number; angle: number },
  side: -1 | 1,
): void {
  const far = 2 * (width + height);
  const [cx, cy] = [split.x * width, split.y * height];
  const [ax, ay] = [Math.sin(split.angle), Math.cos(split.angle)];
  const [nx, ny] = [ay * side, -ax * side];
  context.beginPath();
  context.moveTo(cx - ax * far, cy - ay * far);
  context.lineTo(cx + ax * far, cy + ay * far);
  context.lineTo(cx + ax * far + nx * far, cy + ay * far + ny * far);
  context.lineTo(cx - ax * far + nx * far, cy - ay * far + ny * far);
  context.closePath();
  context.clip();
}
