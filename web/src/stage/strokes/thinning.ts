/** Picture pixels by which a point that is left out may lie beside the line through those that stay. */
const TOLERANCE = 0.3;
/** Points that are held back at most: each new one is compared with all of them. */
const MOST_HELD = 64;

/** A point of a stroke: x, y, and the pressure where it is not 1. */
export type StrokePoint = number[];

/**
 * Keeps of the points of a stroke those that its course needs. None that was left out lies further than 0.3 px beside
 * the line through the others, and what pressure does to the radius there is off by no more than that.
 */
export class Thinning {
  readonly kept: StrokePoint[];
  /** Points since the last one that was kept; the newest is the tip of the stroke. */
  private held: StrokePoint[] = [];

  constructor(
    first: StrokePoint,
    private readonly radius: number,
    /** Picture pixels from the last point that is kept to the tip at most, so that the tip stays cheap to draw. */
    private readonly reach: number,
  ) {
    this.kept = [first];
  }

  get tip(): StrokePoint {
    return this.held.at(-1) ?? this.kept.at(-1)!;
  }

  add(point: StrokePoint): void {
    const tip = this.tip;
    if (point.length === tip.length && point.every((value, at) => value === tip[at])) return;
    const from = this.kept.at(-1)!;
    const far = Math.hypot(point[0]! - from[0]!, point[1]! - from[1]!) > this.reach;
    const full = this.held.length >= MOST_HELD || far;
    if (this.held.length && (full || !this.held.every((each) => this.near(each, from, point)))) {
      this.kept.push(tip);
      this.held = [];
    }
    this.held.push(point);
  }

  /** All points of the stroke, which ends here. */
  finished(): StrokePoint[] {
    return this.held.length ? [...this.kept, this.tip] : [...this.kept];
  }

  /** Whether a segment passes near enough by a point, with about its pressure. */
  private near([x, y, pressure = 1]: StrokePoint, from: StrokePoint, to: StrokePoint): boolean {
    const [ax, ay, ap = 1] = from as [number, number, number?];
    const [bx, by, bp = 1] = to as [number, number, number?];
    const [dx, dy] = [bx - ax, by - ay];
    const length = dx * dx + dy * dy;
    const t = length ? Math.min(1, Math.max(0, ((x! - ax) * dx + (y! - ay) * dy) / length)) : 0;
    const beside = Math.hypot(ax + dx * t - x!, ay + dy * t - y!);
    return beside <= TOLERANCE && Math.abs(ap + (bp - ap) * t - pressure) * this.radius <= TOLERANCE;
  }
}
