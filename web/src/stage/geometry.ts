/** A picture placed in a pane: screen = (position - left, top) * zoom. Positions in full-resolution picture pixels. */
export interface Placement {
  zoom: number;
  left: number;
  top: number;
  width: number;
  height: number;
}

type Box = [number, number, number, number];

export function fitZoom(display: Box, width: number, height: number): number {
  return Math.min(width / display[2], height / display[3]);
}

/** Where the picture lies in a pane of a size; zoom 0 fits it. */
export function place(
  display: Box,
  width: number,
  height: number,
  zoom: number,
  centre: [number, number] | null,
): Placement {
  const real = zoom || fitZoom(display, width, height);
  const [x, y] = zoom && centre ? centre : [display[2] / 2, display[3] / 2];
  return { zoom: real, left: x - width / 2 / real, top: y - height / 2 / real, width, height };
}

/** The picture position under a point of the pane. */
export function position(placement: Placement, x: number, y: number): [number, number] {
  return [placement.left + x / placement.zoom, placement.top + y / placement.zoom];
}

/**
 * Denominator of the proxy scale that still has a sample for each device pixel; `quickly`, of a picture that is seen
 * smaller than it is, the next one, with a quarter of the samples.
 */
export function scaleFor(zoom: number, ratio: number, quickly = false): number {
  const wanted = 1 / (zoom * ratio);
  const scale = wanted >= 8 ? 8 : wanted >= 4 ? 4 : wanted >= 2 ? 2 : 1;
  return quickly && wanted > 1 ? Math.min(8, 2 * scale) : scale;
}

const GRID = 64;

/** The part of a window that a pane shows, at a scale, grown to a grid so that small pans ask for nothing new. */
export function visibleRegion(placement: Placement, display: Box, scale: number): Box | null {
  const right = placement.left + placement.width / placement.zoom;
  const bottom = placement.top + placement.height / placement.zoom;
  const snap = (value: number, up: boolean) => (up ? Math.ceil : Math.floor)(value / scale / GRID) * GRID;
  const x0 = Math.max(0, snap(placement.left, false));
  const y0 = Math.max(0, snap(placement.top, false));
  const x1 = Math.min(Math.ceil(display[2] / scale), snap(right, true));
  const y1 = Math.min(Math.ceil(display[3] / scale), snap(bottom, true));
  return x1 > x0 && y1 > y0 ? [x0, y0, x1 - x0, y1 - y0] : null;
}

/** The zoom after turning the wheel, and the centre that keeps the point under the pointer where it is. */
export function zoomAt(
  placement: Placement,
  x: number,
  y: number,
  factor: number,
): { zoom: number; centre: [number, number] } {
  const zoom = Math.min(64, Math.max(0.02, placement.zoom * factor));
  const [px, py] = position(placement, x, y);
  return {
    zoom,
    centre: [px - (x - placement.width / 2) / zoom, py - (y - placement.height / 2) / zoom],
  };
}
