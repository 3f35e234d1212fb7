import { describe, expect, it } from "vitest";

import { type Planes, paint, planesIn } from "@/stage/painting";
import { alike, joined, missing } from "@/stage/reuse";

type Box = [number, number, number, number];

/** Planes of a region of a picture whose sample at (x, y) is 100 y + x. */
function part(region: Box, more: Partial<Planes> = {}): Planes {
  const [x, y, width, height] = region;
  const samples = new Uint16Array(width * height);
  for (let row = 0; row < height; row++)
    for (let column = 0; column < width; column++)
      samples[row * width + column] = 100 * (y + row) + x + column;
  const about = { channels: ["Y"], data: [false], alpha: "none", scale: 1, display: [0, 0, 90, 90] } as const;
  return {
    ...about,
    digest: "d",
    ranges: [null],
    finished: false,
    region,
    samples: [samples],
    ...more,
  } as Planes;
}

const area = (boxes: Box[]) => boxes.reduce((sum, box) => sum + box[2] * box[3], 0);

describe("parts of a picture", () => {
  it("a pan to any side asks for what it uncovers, once, and nothing else", () => {
    const there: Box = [20, 20, 40, 30];
    for (const [dx, dy] of [
      [8, 0],
      [-8, 0],
      [0, 6],
      [0, -6],
      [8, 6],
      [-8, 6],
      [8, -6],
      [-8, -6],
      [0, 0],
    ]) {
      const wanted: Box = [20 + dx!, 20 + dy!, 40, 30];
      const rest = missing(there, wanted)!;
      expect(area(rest)).toBe(1200 - (40 - Math.abs(dx!)) * (30 - Math.abs(dy!)));
      expect(joined([part(there), ...rest.map((box) => part(box))], wanted)).toEqual(part(wanted));
    }
  });

  it("a closer look at the same scale asks for nothing, a wider one for the frame around", () => {
    expect(missing([0, 0, 60, 40], [10, 10, 30, 20])).toEqual([]);
    expect(joined([part([0, 0, 60, 40])], [10, 10, 30, 20])).toEqual(part([10, 10, 30, 20]));
    const rest = missing([10, 10, 30, 20], [0, 0, 50, 40])!;
    expect(rest).toHaveLength(4);
    expect(joined([part([10, 10, 30, 20]), ...rest.map((box) => part(box))], [0, 0, 50, 40])).toEqual(
      part([0, 0, 50, 40]),
    );
  });

  it("what came as bytes of what is seen is put together as such", () => {
    const coded = (region: Box) => {
      const codes = Uint8Array.from(part(region).samples[0]!, (value) => value / 40);
      return planesIn({ ...part(region), ends: [null], exposure: 0 }, codes.buffer);
    };
    const wanted: Box = [10, 5, 50, 30];
    const rest = missing([0, 0, 50, 35], wanted)!;
    const whole = joined([coded([0, 0, 50, 35]), ...rest.map(coded)], wanted);
    const look = { exposure: 0, backing: { kind: "none" } } as const;
    expect(alike([whole, part(wanted)])).toBe(false);
    expect(whole.samples).toEqual(coded(wanted).samples);
    expect(paint(whole, look)).toEqual(paint(coded(wanted), look));
  });

  it("all is asked for where little or nothing is there", () => {
    expect(missing([0, 0, 40, 30], [35, 0, 40, 30])).toBeNull();
    expect(missing([0, 0, 40, 30], [80, 0, 40, 30])).toBeNull();
  });

  it("are joined only if they are of the same picture and none is rough", () => {
    const [one, two]: Box[] = [
      [0, 0, 4, 4],
      [4, 0, 4, 4],
    ];
    expect(alike([part(one!), part(two!)])).toBe(true);
    expect(alike([part(one!), part(two!, { digest: "other" })])).toBe(false);
    expect(alike([part(one!), part(two!, { ranges: [[0, 2]] })])).toBe(false);
    const pending = { code: "pending", message: "", where: "", remedy: "" };
    expect(alike([part(one!, { pending })])).toBe(false);
  });
});
