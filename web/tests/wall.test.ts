import { describe, expect, it } from "vitest";

import type { ShotRow } from "@/api/client";
import { type Order, arranged, bytesText, freeShotName, tagsOf, wordsIn } from "@/projects/wall";

const shot = (name: string, more: Partial<ShotRow> = {}): ShotRow => ({
  id: 1,
  name,
  revision: 1,
  changed: null,
  picture: null,
  frame: 1,
  state: "todo",
  archived: false,
  tags: [],
  notes: 0,
  ...more,
});

const ORDER: Order = { find: "", sort: "name", group: "none", aside: false };
const names = (shots: ShotRow[], order: Partial<Order>) =>
  arranged(shots, { ...ORDER, ...order }).map(([title, rows]) => [title, ...rows.map((row) => row.name)]);

describe("the wall's order", () => {
  const shots = [
    shot("120 tin", { changed: "2026-11-03", state: "review" }),
    shot("040 moth", { changed: "2026-11-01" }),
    shot("42 Moth at once", { changed: "2026-11-02" }),
    shot("lantern", { archived: true }),
    shot("house"),
  ];

  it("finds every word, in any case, and leaves out what stands aside", () => {
    expect(names(shots, { find: "ONCE moth" })).toEqual([["", "42 Moth at once"]]);
    expect(names(shots, { find: "lantern" })).toEqual([]);
    expect(names(shots, { aside: true })).toEqual([["", "lantern"]]);
  });

  it("sorts numbers as numbers, or what changed last first", () => {
    expect(names(shots, {})).toEqual([["", "040 moth", "42 Moth at once", "120 tin", "house"]]);
    expect(names(shots, { sort: "changed" })).toEqual([
      ["", "120 tin", "42 Moth at once", "040 moth", "house"],
    ]);
  });

  it("groups by leading number and by state", () => {
    expect(names(shots, { group: "number" })).toEqual([
      ["040 to 049", "040 moth", "42 Moth at once"],
      ["120 to 129", "120 tin"],
      ["without a number", "house"],
    ]);
    expect(names(shots, { group: "state" })).toEqual([
      ["to do", "040 moth", "42 Moth at once", "house"],
      ["to review", "120 tin"],
    ]);
  });

  it("finds and groups by tags, a shot of several in each of their groups", () => {
    const tagged = [
      shot("040 moth", { tags: ["Moths", "glass"] }),
      shot("042 moth", { tags: ["moths"] }),
      shot("house"),
    ];
    expect(names(tagged, { group: "tag" })).toEqual([
      ["glass", "040 moth"],
      ["moths", "040 moth", "042 moth"],
      ["without a tag", "house"],
    ]);
    expect(names(tagged, { find: "glass" })).toEqual([["", "040 moth"]]);
    expect(tagsOf(tagged)).toEqual(["glass", "moths"]);
    expect(wordsIn(" glass,,night  work, Glass")).toEqual(["Glass", "night work"]);
  });

  it("finds a free name for a duplicate", () => {
    expect(freeShotName("040 moth", shots)).toBe("040 moth (2)");
    expect(freeShotName("040 moth", [...shots, shot("040 MOTH (2)")])).toBe("040 moth (3)");
  });

  it("says bytes", () => {
    expect([0, 999, 1500, 45_000_000, 2e12].map(bytesText)).toEqual([
      "0 bytes",
      "999 bytes",
      "1.5 kB",
      "45 MB",
      "2.0 TB",
    ]);
  });
});
