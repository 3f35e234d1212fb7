/** The horizontal axis of the elevation: from `low` to `high`, even in depth or in 1 / depth. */
export interface Axis {
  low: number;
  high: number;
  inverse: boolean;
  width: number;
}

const turned = (value: number) => 1 / Math.max(value, 1e-9);

/** Where a depth lies on the axis, in pixels; it may be outside of it. */
export function xOf({ low, high, inverse, width }: Axis, depth: number): number {
  if (inverse) return ((turned(depth) - turned(low)) / (turned(high) - turned(low))) * width;
  return ((depth - low) / (high - low)) * width;
}

/** The depth at a place of the axis. */
export function depthAt({ low, high, inverse, width }: Axis, x: number): number {
  const t = x / Math.max(1, width);
  if (inverse) return 1 / Math.max(1e-9, turned(low) + (turned(high) - turned(low)) * t);
  return low + (high - low) * t;
}

/** The ends after zooming by a factor about a depth, held within all there is (and a little beyond). */
export function zoomed(axis: Axis, at: number, factor: number, all: [number, number]): [number, number] {
  const inner: Axis = { ...axis, width: 1 };
  const middle = xOf(inner, at);
  const part = (edge: number) => depthAt(inner, middle + (edge - middle) * factor);
  const room = (all[1] - all[0]) * 0.25;
  const lowest = all[0] > 0 && axis.inverse ? all[0] * 0.8 : all[0] - room;
  const [low, high] = [Math.max(lowest, part(0)), Math.min(all[1] + room, part(1))];
  return high - low > (all[1] - all[0]) * 1e-4 ? [low, high] : [axis.low, axis.high];
}

/** Round depths for the ticks, at least so many pixels apart. */
export function ticksOf(axis: Axis, apart = 70): number[] {
  if (!axis.inverse) {
    const least = ((axis.high - axis.low) / Math.max(1, axis.width)) * apart;
    const power = 10 ** Math.floor(Math.log10(Math.max(1e-12, least)));
    const step = power * ([1, 2, 5, 10].find((each) => each * power >= least) ?? 10);
    const first = Math.ceil(axis.low / step);
    const count = Math.max(0, Math.floor(axis.high / step) - first + 1);
    return Array.from({ length: count }, (_, index) => Number(((first + index) * step).toPrecision(8)));
  }
  const count = Math.max(2, Math.floor(axis.width / apart));
  const found: number[] = [];
  let last = -Infinity;
  for (let index = 0; index <= count; index++) {
    const x = (axis.width * (index + 0.5)) / (count + 1);
    const [here, next] = [depthAt(axis, x), depthAt(axis, x + apart / 2)];
    const size = 10 ** Math.floor(Math.log10(Math.max(1e-9, Math.abs(next - here))));
    const value = Math.round(here / size) * size;
    const place = xOf(axis, value);
    if (place < 0 || place > axis.width || place - last < apart * 0.6) continue;
    last = place;
    found.push(Number(value.toPrecision(6)));
  }
  return found;
}
