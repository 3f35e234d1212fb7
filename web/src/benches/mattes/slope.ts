/** The transfer of `stretch` for drawing: position in 0 to 1 of the output for an input value. */
export interface Slope {
  black: number;
  white: number;
  middle: number;
  outBlack: number;
  outWhite: number;
  clip: boolean;
}

export function transfer(slope: Slope, value: number): number {
  // Equal ends are an error that the step tells; the line is drawn as the jump that they would be.
  const range = slope.white - slope.black;
  let t = range === 0 ? Number(value >= slope.white) : (value - slope.black) / range;
  if (slope.clip) t = Math.min(1, Math.max(0, t));
  const exponent = Math.log(0.5) / Math.log(slope.middle);
  return slope.outBlack + Math.sign(t) * Math.abs(t) ** exponent * (slope.outWhite - slope.outBlack);
}

/** The input value that comes out as the half. */
export function middleAt(slope: Slope): number {
  return slope.black + slope.middle * (slope.white - slope.black);
}
