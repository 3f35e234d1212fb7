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

const FLOAT = new Float32Array(1);
const BITS = new Uint32Array(FLOAT.buffer);

/** The bits of the half float that is nearest to a number (IEEE 754: ties to even, infinite beyond the largest). */
export function halfOf(value: number): number {
  FLOAT[0] = value;
  const bits = BITS[0]!;
  const sign = (bits >>> 16) & 0x8000;
  const size = bits & 0x7fffffff;
  if (size > 0x7f800000) return sign | 0x7e00;
  // Half way between the largest half float and the next step.
  if (size >= 0x477ff000) return sign | 0x7c00;
  if (size < 0x38800000) {
    // Below the smallest normal half float all steps are the same.
    const steps = Math.abs(FLOAT[0]) * 2 ** 24;
    const low = Math.floor(steps);
    const rest = steps - low;
    return sign | (rest > 0.5 || (rest === 0.5 && low & 1) ? low + 1 : low);
  }
  const rounded = size - 0x38000000 + 0xfff + ((size >>> 13) & 1);
  return sign | (rounded >>> 13);
}
