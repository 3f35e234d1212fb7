import { describe, expect, it } from "vitest";

import type { OperationRow } from "@/api/client";
import { partsOf, rangeOf } from "@/help/AboutOperation";
import { entriesFor } from "@/help/entries";
import { HOW_TOS, howTosOf } from "@/help/howtos";
import { KEYS } from "@/help/keys";

const OPERATIONS = [
  {
    op: "stretch",
    family: "mattes",
    needs: "contrast",
    text: "Map a range.\n\n    v' = v",
    ports: [],
    settings: {},
  },
  {
    op: "blur",
    family: "mattes",
    needs: "soften",
    text: "Blur.",
    ports: [{ name: "from", text: "what is blurred", required: true }],
    settings: { radius: { description: "Sigma, in pixels" } },
  },
] as unknown as OperationRow[];
const titles = (text: string) => entriesFor(text, HOW_TOS, OPERATIONS).map((entry) => entry.title);

describe("the help", () => {
  it("tells every job of the README, with its pictures", () => {
    for (const title of ["Notes", "Scout", "Passes", "Space", "Edges", "Packing", "Time", "Deliver"])
      expect(HOW_TOS.map((howTo) => howTo.title)).toContain(title);
    const scout = HOW_TOS.find((howTo) => howTo.title === "Scout")!;
    expect(scout.parts.some((part) => "picture" in part && part.picture.includes("scout"))).toBe(true);
    // Every picture that the tour shows is shown here.
    const shown = HOW_TOS.flatMap((howTo) => howTo.parts.filter((part) => "picture" in part));
    expect(shown.length).toBeGreaterThan(12);
  });

  it("writes words as they are meant, and follows no link", () => {
    const [howTo] = howTosOf(
      "# X\n\n## A tour\n\n**Cut *it*.** Press `/` <b>&\n[all](docs/a.md).\n\nMore.\n\n## Next\n\n**No.** no",
    );
    expect(howTo!.title).toBe("Cut *it*");
    expect(howTo!.parts).toHaveLength(2);
    const html = (howTo!.parts[0] as { html: string }).html;
    expect(html).toContain("<code>/</code>");
    expect(html).toContain("all.");
    expect(html).not.toContain("href");
  });

  it("is searched by every word, titles first, and keeps of the keys the rows that match", () => {
    expect(titles("stretch")[0]).toBe("Stretch");
    expect(titles("sigma pixels")).toEqual(["Blur"]);
    expect(titles("soften")).toContain("Blur");
    expect(titles("zzz nowhere")).toEqual([]);
    const [keys] = entriesFor("backdrop next", [], OPERATIONS);
    expect(keys?.kind === "keys" && keys.rows).toEqual(KEYS.filter((row) => row[1] === "Next backdrop"));
    const all = titles("");
    expect(all.length).toBe(HOW_TOS.length + 1 + OPERATIONS.length);
    expect(all.indexOf("Keys")).toBe(HOW_TOS.length);
  });

  it("parts a docstring into paragraphs and formulas, and tells a setting's range", () => {
    expect(partsOf("One\ntwo.\n\n    a = b\n    c\n\nThree")).toEqual([
      { formula: false, text: "One two." },
      { formula: true, text: "a = b\nc" },
      { formula: false, text: "Three" },
    ]);
    expect(rangeOf({ minimum: 0, maximum: 5, unit: "px", default: 1 })).toBe("0 to 5 px; at first 1");
    expect(rangeOf({ enum: ["round", "square"], default: "round" })).toBe("round, square; at first round");
    expect(rangeOf({ exclusiveMinimum: 0, default: [] })).toBe("0 and more");
    expect(rangeOf({})).toBe("");
  });
});
