/** x, y, width, height in samples of a region. */
export type Box = [number, number, number, number];

/** A point of a stroke in samples, relative to the corner of the buffer, and the pressure that scales the radius. */
export interface Dab {
  x: number;
  y: number;
  pressure: number;
}

/** The smallest box that holds two; null stands for nothing. */
export function around(a: Box | null, b: Box | null): Box | null {
  if (!a || !b) return a ?? b;
  const [x, y] = [Math.min(a[0], b[0]), Math.min(a[1], b[1])];
  const right = Math.max(a[0] + a[2], b[0] + b[2]);
  const bottom = Math.max(a[1] + a[3], b[1] + b[3]);
  return [x, y, right - x, bottom - y];
}

/**
 * Lay the coverage of one segment of a stroke into a buffer of `width` x `height` samples: the larger of both remains.
 * Returns the box that it can have changed, null where it lies outside. The formula is that of the core
 * (`kernels/strokes.py`): 1 up to hardness * radius, 0 from radius on, smoothstep between, at least a sample wide.
 */
export function sweep(
  buffer: Float32Array,
  width: number,
  height: number,
  from: Dab,
  to: Dab,
  radius: number,
  hardness: number,
): Box | null {
  const reach = radius * Math.max(from.pressure, to.pressure) + 1;
  const left = Math.max(0, Math.floor(Math.min(from.x, to.x) - reach));
  const right = Math.min(width, Math.ceil(Math.max(from.x, to.x) + reach) + 1);
  const top = Math.max(0, Math.floor(Math.min(from.y, to.y) - reach));
  const bottom = Math.min(height, Math.ceil(Math.max(from.y, to.y) + reach) + 1);
  if (right <= left || bottom <= top) return null;
  const [dx, dy] = [to.x - from.x, to.y - from.y];
  const length = dx * dx + dy * dy;
  const growth = to.pressure - from.pressure;
  for (let row = top; row < bottom; row++) {
    const py = row + 0.5 - from.y;
    const [first, last] = columns(py, dx, dy, reach);
    const begin = Math.max(left, Math.floor(from.x + first - 1));
    const end = Math.min(right, Math.ceil(from.x + last + 1));
    for (let column = begin; column < end; column++) {
      const px = column + 0.5 - from.x;
      const t = length > 0 ? Math.min(1, Math.max(0, (px * dx + py * dy) / length)) : 0;
      const size = radius * (from.pressure + growth * t);
      if (size <= 0) continue;
      const [ex, ey] = [px - dx * t, py - dy * t];
      const distance = Math.sqrt(ex * ex + ey * ey);
      // The passage is a sample wide at least, about the same middle.
      const half = Math.max(size * (1 - hardness), 1) * 0.5;
      const s = (size * (1 + hardness) * 0.5 + half - distance) / (2 * half);
      if (s <= 0) continue;
      let coverage = s >= 1 ? 1 : s * s * (3 - 2 * s);
      if (size < 0.5) coverage *= 2 * size;
      const at = row * width + column;
      if (coverage > buffer[at]!) buffer[at] = coverage;
    }
  }
  return [left, top, right - left, bottom - top];
}

/** The columns of a row within `reach` of a segment from the origin to dx, dy; empty where none is. */
function columns(py: number, dx: number, dy: number, reach: number): [number, number] {
  // The part of the segment that is near enough in height.
  let [t0, t1] = [0, 1];
  if (dy !== 0) {
    const [a, b] = [(py - reach) / dy, (py + reach) / dy];
    t0 = Math.max(0, Math.min(a, b));
    t1 = Math.min(1, Math.max(a, b));
  } else if (Math.abs(py) > reach) return [1, 0];
  if (t1 < t0) return [1, 0];
  return [Math.min(t0 * dx, t1 * dx) - reach, Math.max(t0 * dx, t1 * dx) + reach];
}
