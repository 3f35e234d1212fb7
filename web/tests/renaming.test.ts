import { beforeEach, describe, expect, it, vi } from "vitest";

import { type Recipe, addressesOf, rename } from "@/api/recipe";
import { usePackingView } from "@/benches/packing/packingView";
import { useNoting } from "@/notes/notes";
import { usePut } from "@/shot/chains";
import { useDraft } from "@/shot/draft";
import { useMarks } from "@/shot/marks";
import { renameItem } from "@/shot/renaming";
import { useView } from "@/stage/viewState";
import { useTime } from "@/time/timeState";

// The marks' page, and the lines', are told when it is left.
vi.hoisted(() => vi.stubGlobal("window", { addEventListener: () => undefined }));

/** What keeps something for the page: whether it may name an item of the shot. */
const STORES: Record<string, boolean> = {
  "benches/edges/line.ts": false,
  "benches/mattes/doubtState.ts": false,
  "benches/packing/packingView.ts": true,
  "help/helpState.ts": false,
  "help/hints.ts": false,
  "notes/notes.ts": true,
  "shot/chains.ts": true,
  "shot/draft.ts": true,
  "shot/marks.ts": true,
  // What another recipe's steps are fed from: it is chosen in a dialog, with nothing else at hand.
  "shot/recipes.ts": false,
  "shot/sequences.ts": false,
  "shot/sources.ts": false,
  "stage/hover.ts": false,
  // Strokes are told apart by the step that is in focus.
  "stage/strokes/strokeInHand.ts": false,
  "stage/tools.ts": false,
  "stage/viewState.ts": true,
  "time/timeState.ts": true,
};

const recipe: Recipe = {
  nexal: 1,
  sources: { moth: { files: "m.exr" } },
  steps: [
    { name: "dusk", op: "cross", in: { a: "moth.R", b: "moth.G" } },
    {
      name: "sum",
      op: "sum_passes",
      in: { passes: ["dusk", "moth"] },
      set: { passes: [{ times: "dusk" }] },
    },
    { name: "bay", op: "bay", set: { layers: [{ from: "dusk.R", mask: "dusk" }] } },
    { name: "duskier", op: "invert", in: { from: "dusk" } },
  ],
  outputs: {
    one: { from: "dusk.A", file: "x.exr" },
    two: { from: { R: "dusk", G: "moth.G" }, file: "y.exr" },
  },
};

/** Everything that a store keeps, without what it does, and without what is a recipe of another time. */
const keptIn = (store: { getState: () => object }) =>
  JSON.stringify(store.getState(), (key, value: unknown) => (key === "pin" ? undefined : value));

describe("an item's other name", () => {
  beforeEach(() => {
    useDraft.setState({
      recipe,
      edit: (change) => useDraft.setState(({ recipe: now }) => ({ recipe: change(now) })),
    });
  });

  it("stands everywhere in the recipe", () => {
    const now = rename(recipe, "dusk", "dawn");
    expect(JSON.stringify(now)).not.toMatch(/"dusk[".]/);
    expect(rename(now, "dawn", "dusk")).toEqual(recipe);
    expect(
      now.steps!.flatMap((step) => addressesOf(step)).filter((at) => at.startsWith("dawn")),
    ).toHaveLength(5);
  });

  it("is that of all that names it in the page", () => {
    useMarks.setState({ marks: [{ side: "subject", x: 1, y: 1, radius: 2, on: "dusk" }] });
    useView.getState().change({
      alone: { item: "dusk", channels: ["R"] },
      fringe: { item: "dusk", told: "straight" as never },
      unsure: { item: "dusk", recipe: { nexal: 1 } },
      backdrop: "item:dusk.R",
      pin: { recipe, address: "dusk", channels: null },
    });
    useNoting.getState().change({ place: { item: "dusk", x: 1, y: 2, frame: 1 } });
    usePackingView.getState().change({ pack: "dusk", base: "dusk.R", normal: "dusk" });
    usePut.getState().change({ name: "chain", steps: ["dusk"], first: [["dusk", "amount"]] });
    useTime.getState().change({ taken: { place: "dusk.amount", frames: [1] } });
    renameItem("dusk", "dawn");
    for (const store of [useDraft, useMarks, useView, useNoting, usePackingView, usePut, useTime]) {
      const text = keptIn(store);
      expect(text).not.toMatch(/"(item:)?dusk[".]/);
      if (store !== useTime) expect(text).toMatch(/"(item:)?dawn[".]/);
    }
    expect(useView.getState().pin).toMatchObject({ address: "dusk", recipe });
  });

  it("is known to everything that keeps something for the page", () => {
    const files = import.meta.glob<string>("../src/**/*.{ts,tsx}", {
      eager: true,
      query: "?raw",
      import: "default",
    });
    const stores = Object.entries(files)
      .filter(([, text]) => text.includes('from "zustand"'))
      .map(([path]) => path.replace("../src/", ""));
    expect(stores.toSorted()).toEqual(Object.keys(STORES).toSorted());
  });
});
