import { describe, expect, it } from "vitest";

import { type Recipe, findStep } from "@/api/recipe";
import {
  type Point,
  alongSeen,
  awayOf,
  eyeOf,
  placeAt,
  plus,
  seen,
  times,
  turnOf,
  turned,
  turnedFurther,
} from "@/benches/space/camera";
import { type Measure, depthOfPlace, outlinesOf, stageHandlesOf } from "@/benches/space/shape";
import { type Axis, depthAt, ticksOf, xOf, zoomed } from "@/benches/space/scale";
import {
  type Located,
  KINDS,
  type SpaceRow,
  added,
  before,
  handlesOf,
  measureOf,
  pickablesOf,
  pickedAfter,
  spaceOf,
  strengthAt,
} from "@/benches/space/space";
import { idsIn } from "@/steps/SettingField";

const SPACE: SpaceRow = {
  source: "swing",
  depths: [
    {
      channel: "depth.Z",
      kind: "planar",
      likely: false,
      near_is: "small",
      range: [2, 12],
      unit: 1,
      averaged: 0,
      sentences: [],
      warnings: [],
    },
  ],
  position: "swing.position",
  normals: "swing.normal",
  albedo: "",
  alpha: "swing.A",
  ids: [{ address: "swing", layer: "objects", names: ["pot"], problem: "" }],
  camera: null,
};
const RECIPE: Recipe = {
  nexal: 1,
  sources: { swing: { files: "s.exr" }, other: { files: "o.exr" } },
  steps: [],
};
/** Looks along z from 1, 2, -3; 100 pixels of focal length, its middle at 50, 40. */
const CAMERA = [100, 0, 50, 50, 0, -100, 40, 320, 0, 0, 1, 3];

const withStep = (op: string, set: Record<string, unknown>): Recipe => ({
  ...RECIPE,
  steps: [{ name: "step", op, in: {}, set }],
});
const own = (recipe: Recipe) => findStep(recipe, "step")!;

describe("the axis of the elevation", () => {
  const axes: Axis[] = [
    { low: 2, high: 12, inverse: false, width: 500 },
    { low: 2, high: 12, inverse: true, width: 500 },
  ];

  it("goes there and back", () => {
    for (const axis of axes) {
      expect(xOf(axis, 2)).toBeCloseTo(0);
      expect(xOf(axis, 12)).toBeCloseTo(500);
      for (const depth of [2.5, 4, 11]) expect(depthAt(axis, xOf(axis, depth))).toBeCloseTo(depth);
    }
    // Even in 1 / depth, the nearest unit takes far more room.
    expect(xOf(axes[1]!, 3)).toBeGreaterThan(3 * xOf(axes[0]!, 3));
  });

  it("zooms about a depth, which stays where it is, and not beyond all there is", () => {
    for (const axis of axes) {
      const [low, high] = zoomed(axis, 4, 0.5, [2, 12]);
      expect(xOf({ ...axis, low, high }, 4)).toBeCloseTo(xOf(axis, 4));
      expect(high - low).toBeLessThan(10);
      const [least, most] = zoomed(axis, 4, 9, [2, 12]);
      expect(least).toBeGreaterThanOrEqual(-0.5);
      expect(most).toBeLessThanOrEqual(14.5);
    }
  });

  it("has round ticks apart from each other", () => {
    expect(ticksOf(axes[0]!)).toEqual([2, 4, 6, 8, 10, 12]);
    for (const axis of axes) {
      const places = ticksOf(axis).map((tick) => xOf(axis, tick));
      places.slice(1).forEach((place, index) => expect(place - places[index]!).toBeGreaterThan(30));
    }
  });
});

describe("steps of space", () => {
  it("are wired to what the render knows, with limits inside of its depth", () => {
    const [slice, name] = added(RECIPE, SPACE, "depth_slice", "swing", "swing");
    expect(findStep(slice, name)).toMatchObject({
      in: { depth: "swing.depth.Z", coverage: "swing.A" },
      set: { near: 4, far: 7 },
    });
    const [fog, fogName] = added(RECIPE, SPACE, "fog", "swing", "swing");
    expect(findStep(fog, fogName)!.in).toEqual({
      picture: "swing",
      depth: "swing.depth.Z",
      position: "swing.position",
    });
    const [lamp, lampName] = added(RECIPE, SPACE, "relight", "swing", "swing");
    expect(findStep(lamp, lampName)!.in).toEqual({ position: "swing.position", normals: "swing.normal" });
    expect(spaceOf([SPACE, { ...SPACE, source: "other" }], RECIPE, "other")!.source).toBe("other");
  });

  it("make of positions what a render did not bring along", () => {
    const bare: SpaceRow = { ...SPACE, depths: [], normals: "" };
    const offered = (recipe: Recipe) =>
      KINDS.filter((kind) => kind.needs(bare, recipe)).map((kind) => kind.label);
    expect(offered(RECIPE)).toEqual(["Matte in space", "Ids", "Depth", "Normals"]);
    const [deep] = added(RECIPE, bare, "depth_from_position", null, "swing");
    const [both] = added(deep, bare, "normals_from_position", "depth", "swing");
    expect(offered(both)).toContain("Light");
    const [lens, name] = added(both, bare, "defocus", "normals", "swing");
    expect(findStep(lens, name)!.in).toEqual({ picture: "swing", depth: "depth" });
    const [lit, lamp] = added(both, bare, "relight", "normals", "swing");
    expect(findStep(lit, lamp)!.in).toEqual({ position: "swing.position", normals: "normals" });
    const seenBy = { ...bare, camera: CAMERA };
    expect(measureOf(seenBy, "depth", lens)).toEqual({ camera: CAMERA, kind: "planar", unit: 1 });
    expect(measureOf(seenBy, "swing.position", lens)).toBeNull();
  });

  it("have handles that keep their order", () => {
    const recipe = withStep("depth_slice", { near: 4, far: 7, feather_near: 1, feather_far: 2 });
    const handle = (name: string) => handlesOf(own(recipe)).find((each) => each.name === name)!;
    expect(handlesOf(own(recipe)).map((each) => each.at)).toEqual([3, 4, 7, 9]);
    expect(own(handle("near").moved(recipe, 9)).set!.near).toBe(7);
    expect(own(handle("feather_far").moved(recipe, 8.5)).set!.feather_far).toBe(1.5);
    expect(own(handle("feather_near").moved(recipe, 5)).set!.feather_near).toBe(0);
    const lens = withStep("defocus", { focus: 5, range: [1, 2] });
    const sharp = handlesOf(own(lens)).find((each) => each.name === "sharp_to")!;
    expect(own(sharp.moved(lens, 9)).set!.range).toEqual([1, 4]);
  });

  it("show how strongly they work at a depth", () => {
    const slice = strengthAt(
      own(withStep("depth_slice", { near: 4, far: 7, feather_near: 1, feather_far: 2, profile: "linear" })),
    )!;
    expect([2, 3.5, 5, 8, 10].map(slice)).toEqual([0, 0.5, 1, 0.5, 0]);
    const fog = strengthAt(own(withStep("fog", { start: 2, density: 0.5, opacity: 0.8 })))!;
    expect(fog(1)).toBe(0);
    expect(fog(6)).toBeCloseTo(0.8 * (1 - Math.exp(-2)));
    expect(strengthAt(own(withStep("fog", { law: "low" })))).toBeNull();
  });

  it("take what is clicked on the stage", () => {
    const found = (depth: number): Located => ({ depth, position: [1, 2, 5], ids: [], outline: [] });
    const recipe = withStep("depth_slice", { near: 4, far: 7 });
    const [nearest, farthest] = pickablesOf(own(recipe), null);
    expect(own(nearest!.taken(recipe, found(9))).set).toMatchObject({ near: 9, far: 9 });
    expect(own(farthest!.taken(recipe, found(5))).set).toMatchObject({ near: 4, far: 5 });
    const lamp = withStep("relight", { size: 2 });
    const placed = pickablesOf(own(lamp), CAMERA)[0]!.taken(lamp, found(8));
    // Two units before the surface, towards the eye.
    expect(own(placed).set!.at).toEqual([1, 2, 3]);
    expect(before([1, 2, 5], null, 2)).toEqual([1, 2, 5]);
  });

  it("pick ids: a click one, Shift one more, Alt one less", () => {
    const ids = [{ id: "0a0b0c0d", name: "pot", coverage: 1 }];
    const keys = { shift: false, alt: false };
    expect(pickedAfter(["moth"], ids, keys)).toEqual(["pot"]);
    expect(pickedAfter(["moth"], ids, { ...keys, shift: true })).toEqual(["moth", "pot"]);
    expect(pickedAfter(["moth", "pot"], ids, { ...keys, alt: true })).toEqual(["moth"]);
    expect(pickedAfter(["moth"], [], keys)).toEqual(["moth"]);
    expect(idsIn("pot, 12 ,left wing,")).toEqual(["pot", 12, "left wing"]);
  });
});

describe("shapes of space on the picture", () => {
  it("fall where the camera sees them", () => {
    expect(eyeOf(CAMERA).map((value) => Math.round(value * 1e6) / 1e6)).toEqual([1, 2, -3]);
    expect(seen(CAMERA, [1, 2, 7])).toEqual([50, 40]);
    expect(seen(CAMERA, [0, 0, -9])).toBeNull();
  });

  it("bound a ball by rays that touch it", () => {
    const ball = (centre: Point) => ({ name: "b", op: "space_matte", set: { centre, size: [5, 1, 1] } });
    const [outline] = outlinesOf(ball([1, 2, 7]), CAMERA);
    // Straight ahead it is a circle of focal length x tangent: r / sqrt(d^2 - r^2).
    for (const [x, y] of outline!) expect(Math.hypot(x - 50, y - 40)).toBeCloseTo((100 * 5) / Math.sqrt(75));
    expect(outlinesOf(ball([1, 2, -2]), CAMERA)).toEqual([]);
    const box = { name: "b", op: "space_matte", set: { shape: "box", centre: [1, 2, 7], size: [1, 1, 1] } };
    expect(outlinesOf(box, CAMERA)).toHaveLength(12);
  });

  it("are put where they are seen", () => {
    const place: Point = [2.5, 1, 4];
    expect(awayOf(CAMERA, place)).toBeCloseTo(7);
    for (const [axis, value] of placeAt(CAMERA, seen(CAMERA, place)!, 7).entries())
      expect(value).toBeCloseTo(place[axis]!);
    const way: Point = [0.3, -0.2, 0.5];
    for (const along of [-1, 0.5, 3])
      expect(alongSeen(CAMERA, place, way, seen(CAMERA, plus(place, times(way, along)))!)).toBeCloseTo(along);
  });

  it("turn about any axis, one after the other", () => {
    const close = (found: Point, wanted: Point) =>
      found.forEach((value, axis) => {
        expect(value).toBeCloseTo(wanted[axis]!);
      });
    close(turned([1, 0, 0], [0, 0, 90]), [0, 1, 0]);
    close(turned([0, 1, 0], [90, 0, 0]), [0, 0, 1]);
    close(turned([0, 0, 1], [0, 90, 0]), [1, 0, 0]);
    for (const rotation of [
      [20, -35, 110],
      [0, 90, 0],
      [15, 0, 0],
    ] as Point[]) {
      const back = turnedFurther(turnedFurther(rotation, [1, 2, -0.5], 47), [1, 2, -0.5], -47);
      turnOf(back).forEach((row, at) => {
        close(row, turnOf(rotation)[at]!);
      });
    }
    close(turned([1, 0, 0], turnedFurther([0, 0, 30], [0, 0, 1], 60)), [0, 1, 0]);
  });
});

describe("a shape taken hold of", () => {
  const set = { shape: "box", centre: [1, 2, 7], size: [1, 2, 3], rotation: [0, 0, 0] };
  const after = (recipe: Recipe) => own(recipe).set as Record<"centre" | "size" | "rotation" | "at", Point>;
  const drag = (recipe: Recipe, name: string, by: [number, number], aside = false) => {
    const handle = stageHandlesOf(own(recipe), CAMERA).find((each) => each.name === name)!;
    return after(handle.moved(recipe, handle.at, [handle.at[0] + by[0], handle.at[1] + by[1]], aside));
  };

  it("goes across the view at its depth", () => {
    // At 10 from the eye a unit is 10 pixels.
    expect(drag(withStep("space_matte", set), "centre", [20, -10]).centre).toEqual([3, 3, 7]);
    const lamp = withStep("relight", { at: [1, 2, 7] });
    expect(drag(lamp, "at", [10, 0]).at).toEqual([2, 2, 7]);
    expect(stageHandlesOf(own(withStep("relight", { light: "sun" })), CAMERA)).toEqual([]);
  });

  it("is sized along its own axes, and never to nothing", () => {
    expect(drag(withStep("space_matte", set), "size_0", [10, 55]).size).toEqual([2, 2, 3]);
    expect(drag(withStep("space_matte", set), "size_0", [-10, 0]).size[0]).toBeGreaterThan(0);
    // Straight along the view nothing can be taken hold of by its length.
    expect(stageHandlesOf(own(withStep("space_matte", { ...set, shape: "slab" })), CAMERA)).toHaveLength(3);
    expect(drag(withStep("space_matte", { ...set, shape: "ball" }), "size_0", [5, 0]).size[0]).toBeCloseTo(
      1.5,
    );
  });

  it("turns with the pointer what faces the camera", () => {
    const front = (rotation: Point) => turned([0, 0, -1], rotation);
    const right = front(drag(withStep("space_matte", set), "rotation", [25, 0]).rotation);
    expect(seen(CAMERA, plus([1, 2, 7], right))![0]).toBeGreaterThan(51);
    const down = front(drag(withStep("space_matte", set), "rotation", [0, 25]).rotation);
    expect(seen(CAMERA, plus([1, 2, 7], down))![1]).toBeGreaterThan(41);
    const side = turned([1, 0, 0], drag(withStep("space_matte", set), "rotation", [25, 0], true).rotation);
    expect(seen(CAMERA, plus([1, 2, 7], side))![1]).toBeGreaterThan(41);
  });

  it("lies on the elevation where its depth is", () => {
    const planar: Measure = { camera: CAMERA, kind: "planar", unit: 2 };
    expect(depthOfPlace(planar, [4, 6, 7])).toBeCloseTo(5);
    expect(depthOfPlace({ ...planar, kind: "radial" }, [1, 2, 7])).toBeCloseTo(5);
    expect(depthOfPlace({ ...planar, kind: "inverse" }, [1, 2, 7])).toBeNull();
    const recipe = withStep("space_matte", { ...set, centre: [2, 2, 7] });
    const [centre, end] = handlesOf(own(recipe), planar);
    expect([centre!.at, end!.at]).toEqual([5, 6.5]);
    const moved = after(centre!.moved(recipe, 10)).centre;
    expect(moved).toEqual([3, 2, 17]);
    for (const [axis, value] of seen(CAMERA, moved)!.entries())
      expect(value).toBeCloseTo(seen(CAMERA, [2, 2, 7])![axis]!);
    expect(after(end!.moved(recipe, 7)).size).toEqual([1, 2, 4]);
  });
});
