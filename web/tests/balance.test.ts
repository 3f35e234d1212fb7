import { describe, expect, it } from "vitest";

import type { Item } from "@/api/client";
import { type Recipe, changeStep, findStep } from "@/api/recipe";
import {
  addable,
  balanced,
  balancesOf,
  groupsOf,
  keepAs,
  lightLayers,
  othersLike,
  passesOf,
  renderOf,
  shortName,
  withPass,
  without,
} from "@/benches/passes/balance";
import { changedAt, placed } from "@/time/keys";

const sum = (name: string, passes: string[], set: Record<string, unknown> = {}) => ({
  name,
  op: "sum_passes",
  in: { passes },
  set,
});
const RECIPE: Recipe = {
  nexal: 1,
  sources: { lantern: { files: "l.exr" } },
  steps: [sum("sum", ["lantern.key", "lantern.fill", "lantern.glow"])],
};
const step = (recipe: Recipe, name = "sum") => findStep(recipe, name)!;

describe("a sum's balances", () => {
  it("keep the keys of a fader that moves, also where it is put to nothing", () => {
    const moving = changeStep(RECIPE, "sum", (own) => ({
      ...own,
      set: {
        passes: [
          {
            stops: {
              keys: [
                [1, 1],
                [9, 2],
              ],
            },
          },
        ],
      },
    }));
    const put = (stops: number, frame: number) =>
      step(changedAt(moving, (before) => balanced(before, "sum", new Map([[0, { stops }]])), frame)).set;
    expect(put(0, 5)).toEqual({
      passes: [
        {
          stops: {
            keys: [
              [1, 1],
              [5, 0],
              [9, 2],
            ],
          },
        },
        {},
        {},
      ],
    });
    expect(put(3, 9)).toEqual({
      passes: [
        {
          stops: {
            keys: [
              [1, 1],
              [9, 3],
            ],
          },
        },
        {},
        {},
      ],
    });
    const other = changedAt(moving, (before) => balanced(before, "sum", new Map([[2, { stops: 1 }]])), 5);
    expect(step(other).set).toEqual({
      passes: [
        {
          stops: {
            keys: [
              [1, 1],
              [9, 2],
            ],
          },
        },
        {},
        { stops: 1 },
      ],
    });
  });

  it("get their first key where the recipe says nothing of them yet", () => {
    const made = placed(step(RECIPE), ["passes", 1, "stops"], () => ({ keys: [[4, 0]] }));
    expect(made.set).toEqual({ passes: [{}, { stops: { keys: [[4, 0]] } }] });
  });

  it("say only what was changed, and nothing where nothing is", () => {
    const changed = balanced(RECIPE, "sum", new Map([[1, { stops: 2, tint: [1, 1, 1], mute: false }]]));
    expect(step(changed).set).toEqual({ passes: [{}, { stops: 2 }, {}] });
    expect(balancesOf(step(changed))).toHaveLength(3);
    const back = balanced(changed, "sum", new Map([[1, { stops: 0 }]]));
    expect(step(back).set).toEqual({});
    expect(step(RECIPE).set).toEqual({});
  });

  it("go with their passes", () => {
    const changed = balanced(RECIPE, "sum", new Map([[2, { solo: true }]]));
    const fewer = without(changed, "sum", 0);
    expect(passesOf(step(fewer))).toEqual(["lantern.fill", "lantern.glow"]);
    expect(balancesOf(step(fewer))).toEqual([{}, { solo: true }]);
    expect(balancesOf(step(withPass(fewer, "sum", "lantern.rim")))).toEqual([{}, { solo: true }, {}]);
  });

  it("are kept under a name as another sum of the same passes", () => {
    const [kept, name] = keepAs(RECIPE, "sum", "Warm look");
    expect(name).toBe("warm_look");
    expect(othersLike(kept, step(kept)).map((other) => other.name)).toEqual(["warm_look"]);
    expect(othersLike(without(kept, "warm_look", 0), step(kept))).toEqual([]);
  });
});

describe("passes", () => {
  it("are grouped by the layer that several lie in", () => {
    const passes = ["r.diffuse.key", "r.diffuse.fill", "r.glow", "r.spec.key"];
    expect([...groupsOf(passes)]).toEqual([["diffuse", [0, 1]]]);
    expect(passes.map(shortName)).toEqual(["key", "fill", "glow", "key"]);
    expect(shortName("glow")).toBe("glow");
  });

  it("are the layers of a render, else pictures of their own", () => {
    const item = (name: string, channels: string[], data: string[] = []) =>
      ({ name, channels, data, plane: false }) as unknown as Item;
    const layer = (name: string) => ["R", "G", "B"].map((last) => `${name}.${last}`);
    const render = item(
      "lantern",
      ["R", "G", "B", "A", ...layer("key"), ...layer("n")],
      ["A", ...layer("n")],
    );
    expect(lightLayers(render)).toEqual(["", "key"]);
    expect(renderOf(RECIPE, [render], null)).toBe(render);
    expect(addable(RECIPE, [render], render)).toEqual(["lantern.key"]);
    const files = item("lantern", ["R", "G", "B"]);
    expect(renderOf(RECIPE, [files], "lantern")).toBeUndefined();
    expect(addable(RECIPE, [files], undefined)).toEqual(["lantern"]);
  });
});
