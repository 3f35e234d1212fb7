/** The value of every half float by its bits. */
export const HALF_VALUES: Float32Array = (() => {
  const table = new Float32Array(65536);
  for (let bits = 0; bits < 65536; bits++) {
    const sign = bits & 0x8000 ? -1 : 1;
    const exponent = (bits >> 10) & 31;
    const fraction = bits & 1023;
    if (exponent === 0) table[bits] = sign * fraction * 2 ** -24;
    else if (exponent === 31) table[bits] = fraction ? NaN : sign * Infinity;
    else table[bits] = sign * (1 + fraction / 1024) * 2 ** (exponent - 15);
  }
  return table;
})();

/** Display value of scene-linear light (IEC 61966-2-1), in 0 to 1. */
export function encode(value: number): number {
  if (!(value > 0)) return 0;
  if (value >= 1) return 1;
  return value <= 0.0031308 ? 12.92 * value : 1.055 * value ** (1 / 2.4) - 0.055;
}

/** Scene-linear light of a display value in 0 to 1. */
export function decode(value: number): number {
  return value <= 0.04045 ? value / 12.92 : ((value + 0.055) / 1.055) ** 2.4;
}

/** The bits of the half float that is nearest to a number, infinite beyond the largest. */
export function halfOf(value: number): number {
  const size = Math.abs(value);
  let [low, high] = [0, 0x7c00];
  while (high - low > 1) {
    const middle = (low + high) >> 1;
    if (HALF_VALUES[middle]! <= size) low = middle;
    else high = middle;
  }
  const nearest = size - HALF_VALUES[low]! <= HALF_VALUES[high]! - size ? low : high;
  return value < 0 ? nearest | 0x8000 : nearest;
}
