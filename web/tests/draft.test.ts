import { beforeEach, describe, expect, it, vi } from "vitest";

import { ApiError, type RevisionWhole } from "@/api/client";
import type { Recipe } from "@/api/recipe";
import { createDraft } from "@/shot/draft";
import type { Kept, Keeper } from "@/shot/kept";
import type { Server, Way } from "@/shot/server";

import { until } from "./patience";

const SHOT = 7;

/** A recipe that is told apart by the steps that it holds. */
const recipe = (...names: string[]): Recipe => ({
  nexal: 1,
  steps: names.map((name) => ({ name, op: "invert" })),
});
const add = (name: string) => (before: Recipe) => recipe(...names(before), name);
const names = (of: Recipe) => (of.steps ?? []).map((step) => step.name);

interface Stored {
  number: number;
  parent: number | null;
  recipe: Recipe;
  by: string;
}

/** A server with a history, as slow as asked for, that can be away or lose its answers. */
class FakeServer implements Server {
  revisions: Stored[] = [{ number: 1, parent: null, recipe: recipe(), by: "compositor" }];
  at = 1;
  away = false;
  losesAnswers = false;
  slow = 0;
  asked: string[] = [];

  private whole(number: number): RevisionWhole {
    const found = this.revisions.find((row) => row.number === number)!;
    const redo = this.revisions.some((row) => row.parent === number);
    return {
      ...found,
      redo,
      author: found.by,
      sentence: "",
      name: "",
      created: "",
    } as unknown as RevisionWhole;
  }

  private async answer(what: string, work: () => void): Promise<RevisionWhole> {
    this.asked.push(what);
    await new Promise((resolve) => setTimeout(resolve, this.slow));
    const gone = new ApiError(0, { code: "unreachable", message: "away", where: "", remedy: "" });
    if (this.away) throw gone;
    work();
    if (this.losesAnswers) throw gone;
    return this.whole(this.at);
  }

  private check(head: number): void {
    if (head !== this.at)
      throw new ApiError(409, { code: "conflict", message: "somebody saved", where: "", remedy: "" });
  }

  /** What somebody else saves. */
  theirs(made: Recipe, by = "bela"): void {
    const number = this.revisions.length + 1;
    this.revisions.push({ number, parent: this.at, recipe: made, by });
    this.at = number;
  }

  save = (_: number, parent: number, made: Recipe) =>
    this.answer(`save ${names(made).join("")}`, () => {
      this.check(parent);
      this.theirs(made, "compositor");
    });

  move = (_: number, way: Way, head: number) =>
    this.answer(way, () => {
      this.check(head);
      const next =
        way === "undo"
          ? this.revisions.find((row) => row.number === this.at)!.parent
          : (this.revisions.findLast((row) => row.parent === this.at)?.number ?? null);
      if (next === null) throw new ApiError(409, { code: "no_more", message: "", where: "", remedy: "" });
      this.at = next;
    });

  head = () => this.answer("head", () => undefined);

  get seen(): string {
    return names(this.revisions.find((row) => row.number === this.at)!.recipe).join("");
  }
}

class FakeKeeper implements Keeper {
  kept = new Map<number, Kept>();
  keep = async (kept: Kept) => void this.kept.set(kept.shot, structuredClone(kept));
  forget = async (shot: number) => void this.kept.delete(shot);
  find = async (shot: number, owner: string) => {
    const found = this.kept.get(shot);
    return found?.owner === owner ? found : null;
  };
}

let server: FakeServer;
let keeper: FakeKeeper;

async function opened() {
  const draft = createDraft(server, keeper);
  await draft.getState().open(SHOT, await server.head(), "compositor");
  return draft;
}

const shown = (draft: Awaited<ReturnType<typeof opened>>) => names(draft.getState().recipe).join("");

beforeEach(() => {
  vi.useRealTimers();
  server = new FakeServer();
  keeper = new FakeKeeper();
});

describe("one queue for edits, moves and saves", () => {
  it("saves each edit as a revision, in order", async () => {
    const draft = await opened();
    for (const name of "abc") draft.getState().edit(add(name));
    expect(shown(draft)).toBe("abc");
    expect(await draft.getState().finished()).toBe(true);
    expect(server.revisions.map((row) => names(row.recipe).join(""))).toEqual(["", "a", "ab", "abc"]);
    expect(keeper.kept.size).toBe(0);
  });

  it("undoes what is seen while a save is on its way", async () => {
    server.slow = 15;
    const draft = await opened();
    draft.getState().edit(add("a"));
    await new Promise((resolve) => setTimeout(resolve, 5));
    draft.getState().edit(add("b"));
    draft.getState().undo();
    expect(shown(draft)).toBe("a");
    await draft.getState().finished();
    expect([shown(draft), server.seen]).toEqual(["a", "a"]);
    draft.getState().undo();
    await draft.getState().finished();
    expect([shown(draft), server.seen]).toEqual(["", ""]);
    draft.getState().redo();
    draft.getState().redo();
    await draft.getState().finished();
    expect([shown(draft), server.seen]).toEqual(["ab", "ab"]);
  });

  it("gives a drag up: all is as it was before, and what it still tells is left", async () => {
    const draft = await opened();
    draft.getState().edit(add("a"));
    await draft.getState().finished();
    draft.getState().edit(add("b"), false);
    draft.getState().edit(add("c"), false);
    expect(draft.getState()).toMatchObject({ moving: true, unsaved: true });
    expect(draft.getState().giveUp()).toBe(true);
    expect(names(draft.getState().recipe)).toEqual(["a"]);
    expect(draft.getState()).toMatchObject({ moving: false, unsaved: false });
    // The control is not let go yet.
    draft.getState().edit(add("d"), false);
    draft.getState().edit(add("e"), true);
    draft.getState().settle();
    expect(draft.getState().giveUp()).toBe(false);
    draft.getState().letGo();
    expect(await draft.getState().finished()).toBe(true);
    expect(names(draft.getState().recipe)).toEqual(["a"]);
    expect(server.revisions).toHaveLength(2);
    draft.getState().edit(add("f"));
    await draft.getState().finished();
    expect(server.revisions.map((row) => names(row.recipe).join(""))).toEqual(["", "a", "af"]);
  });

  it("gives up what a drag told while a move through the history was on its way, and nothing else", async () => {
    const draft = await opened();
    draft.getState().edit(add("a"));
    await draft.getState().finished();
    server.slow = 15;
    draft.getState().undo();
    draft.getState().edit(add("b"), false);
    draft.getState().edit(add("c"));
    draft.getState().edit(add("d"), false);
    await new Promise((resolve) => setTimeout(resolve, 5));
    // Nothing of it has come yet.
    expect(draft.getState().giveUp()).toBe(false);
    await until(() => expect(draft.getState().moving).toBe(true));
    expect(draft.getState().giveUp()).toBe(true);
    draft.getState().letGo();
    expect(await draft.getState().finished()).toBe(true);
    expect(shown(draft)).toBe(server.seen);
    expect(shown(draft)).not.toContain("d");
  });

  it("has what was undone before a drag that was given up", async () => {
    const draft = await opened();
    server.slow = 20;
    draft.getState().edit(add("a"));
    draft.getState().edit(add("b"));
    draft.getState().undo();
    expect(names(draft.getState().recipe)).toEqual(["a"]);
    draft.getState().edit(add("c"), false);
    expect(draft.getState().canRedo).toBe(false);
    draft.getState().giveUp();
    draft.getState().letGo();
    expect(draft.getState().canRedo).toBe(true);
    draft.getState().redo();
    await draft.getState().finished();
    expect(names(draft.getState().recipe)).toEqual(["a", "b"]);
  });

  it("applies an edit that follows an undo upon what the undo leads to", async () => {
    const draft = await opened();
    draft.getState().edit(add("a"));
    draft.getState().edit(add("b"));
    await draft.getState().finished();
    server.slow = 15;
    draft.getState().undo();
    draft.getState().undo();
    draft.getState().edit(add("c"));
    await draft.getState().finished();
    expect([shown(draft), server.seen]).toEqual(["c", "c"]);
  });

  it("saves a drag once, when it settles", async () => {
    const draft = await opened();
    for (const name of "abc") draft.getState().edit(() => recipe(name), false);
    expect(draft.getState().unsaved).toBe(true);
    expect(server.asked).toEqual(["head"]);
    draft.getState().settle();
    await draft.getState().finished();
    expect(server.asked).toEqual(["head", "save c"]);
  });

  it("takes no step for a change that changes nothing", async () => {
    server.slow = 15;
    const draft = await opened();
    draft.getState().edit(add("a"));
    draft.getState().edit((before) => structuredClone(before));
    draft.getState().undo();
    await draft.getState().finished();
    expect([shown(draft), server.seen]).toEqual(["", ""]);
  });

  it("does nothing at both ends of the history", async () => {
    const draft = await opened();
    draft.getState().undo();
    draft.getState().redo();
    draft.getState().edit(add("a"));
    await draft.getState().finished();
    expect([server.seen, draft.getState().problem]).toEqual(["a", null]);
  });
});

describe("away and back", () => {
  it("keeps what is done offline, undoes it there, and saves it when the server is back", async () => {
    vi.useFakeTimers({ shouldAdvanceTime: true, advanceTimeDelta: 20 });
    const draft = await opened();
    server.away = true;
    for (const name of "abc") draft.getState().edit(add(name));
    draft.getState().undo();
    await draft.getState().finished();
    expect(draft.getState().problem?.code).toBe("unreachable");
    expect(keeper.kept.get(SHOT)?.recipes.map(names)).toEqual([["a"], ["a", "b"]]);
    // The page asks for the shot again as soon as it is back: an answer without the work must not replace it.
    draft.getState().hear(await Promise.resolve({ ...draft.getState().head! }), draft.getState().stamp);
    expect(shown(draft)).toBe("ab");
    server.away = false;
    await vi.advanceTimersByTimeAsync(20_000);
    expect([server.seen, draft.getState().unsaved, draft.getState().problem]).toEqual(["ab", false, null]);
    expect(keeper.kept.size).toBe(0);
  });

  it("says nothing of being not saved after the work was undone", async () => {
    const draft = await opened();
    server.away = true;
    draft.getState().edit(add("a"));
    await draft.getState().finished();
    draft.getState().undo();
    expect([draft.getState().problem, draft.getState().unsaved, shown(draft)]).toEqual([null, false, ""]);
  });

  it("is no conflict with itself where only the answer was lost", async () => {
    const draft = await opened();
    server.losesAnswers = true;
    draft.getState().edit(add("a"));
    await draft.getState().finished();
    server.losesAnswers = false;
    draft.getState().edit(add("b"));
    expect(await draft.getState().finished()).toBe(true);
    expect([draft.getState().conflict, server.seen, server.revisions.length]).toEqual([null, "ab", 3]);
  });

  it("brings work back after a crash, a reload, another shot", async () => {
    const first = await opened();
    server.away = true;
    first.getState().edit(add("a"));
    first.getState().edit(() => recipe("a", "loose"), false);
    await first.getState().finished();
    server.away = false;
    const second = await opened();
    expect([shown(second), second.getState().restored]).toEqual(["aloose", true]);
    await second.getState().finished();
    expect([server.seen, server.revisions.length]).toEqual(["aloose", 3]);
  });

  it("takes up work of a page that goes later, once nothing of its own is under way", async () => {
    let left = (): void => undefined;
    const others: Kept[] = [];
    keeper.find = async () => others.pop() ?? null;
    const watching = Object.assign(keeper, {
      watch: async (_: number, __: string, told: () => void) => void (left = told),
    });
    const draft = createDraft(server, watching);
    await draft.getState().open(SHOT, await server.head(), "compositor");
    others.push({ shot: SHOT, owner: "compositor", base: 1, begun: recipe(), recipes: [recipe("theirs")] });
    server.slow = 20;
    draft.getState().edit(add("mine"));
    left();
    await until(() => expect(others).toHaveLength(0));
    await draft.getState().finished();
    expect([...shown(draft)].sort().join("")).toBe([..."minetheirs"].sort().join(""));
    expect([others.length, server.seen]).toEqual([0, shown(draft)]);
  });

  it("opens once, however often it is asked to while a page on its way out is waited for", async () => {
    const found: Kept[] = [
      { shot: SHOT, owner: "compositor", base: 1, begun: recipe(), recipes: [recipe("kept")] },
    ];
    keeper.find = async () => {
      await new Promise((resolve) => setTimeout(resolve, 10));
      return found.pop() ?? null;
    };
    const draft = createDraft(server, keeper);
    const head = await server.head();
    const asked = draft.getState().open(SHOT, head, "compositor");
    await draft.getState().open(SHOT, head, "compositor");
    await asked;
    await draft.getState().finished();
    expect([shown(draft), draft.getState().restored, server.seen]).toEqual(["kept", true, "kept"]);
  });

  it("does not show one person's kept work to another", async () => {
    const first = await opened();
    server.away = true;
    first.getState().edit(add("a"));
    await first.getState().finished();
    server.away = false;
    const other = createDraft(server, keeper);
    await other.getState().open(SHOT, await server.head(), "somebody");
    expect(shown(other)).toBe("");
  });

  it("asks, where kept work meets a newer revision and it is not known what both began with", async () => {
    const first = await opened();
    server.away = true;
    first.getState().edit(add("a"));
    await first.getState().finished();
    server.away = false;
    server.theirs(recipe("x"));
    delete keeper.kept.get(SHOT)!.begun;
    const second = await opened();
    expect(second.getState().conflict?.problem.message).toContain("Revision 2");
    expect(shown(second)).toBe("a");
    second.getState().keepMine();
    await second.getState().finished();
    expect([server.seen, keeper.kept.size]).toEqual(["a", 0]);
  });
});

describe("two people", () => {
  /** A recipe with one step whose radius is told. */
  const blurred = (radius: number, more: object = {}): Recipe => ({
    nexal: 1,
    steps: [{ name: "a", op: "blur", set: { radius }, ...more }],
  });
  const radius = (of: Recipe) => of.steps?.[0]?.set?.radius;

  it("merges what touches nothing in common, says so, and saves it", async () => {
    const draft = await opened();
    server.theirs(recipe("x"));
    draft.getState().edit(add("a"));
    await draft.getState().finished();
    const { conflict, merged, problem } = draft.getState();
    expect([conflict, merged?.number, problem]).toEqual([null, 2, null]);
    expect([[...shown(draft)].sort().join(""), server.seen, keeper.kept.size]).toEqual([
      "ax",
      shown(draft),
      0,
    ]);
    draft.getState().dismiss();
    expect(draft.getState().merged).toBeNull();
  });

  it("merges work that was kept in the browser too", async () => {
    const first = await opened();
    server.away = true;
    first.getState().edit(add("a"));
    await first.getState().finished();
    server.away = false;
    server.theirs(recipe("x"));
    const second = await opened();
    await second.getState().finished();
    expect([second.getState().conflict, [...server.seen].sort().join("")]).toEqual([null, "ax"]);
  });

  it.each([
    ["keepMine", 2, "n"],
    ["takeTheirs", 3, "n"],
  ] as const)("shows both values where both touched one, and %s chooses", async (way, left, note) => {
    server.theirs(blurred(1));
    const draft = await opened();
    server.theirs(blurred(3));
    draft.getState().edit(() => blurred(2, { note: "n" }));
    await draft.getState().finished();
    expect(draft.getState().conflict?.clashes).toEqual([{ where: "a: radius", mine: "2", theirs: "3" }]);
    expect(keeper.kept.get(SHOT)?.recipes).toHaveLength(1);
    draft.getState().setAside(true);
    expect(draft.getState().conflict?.aside).toBe(true);
    draft.getState()[way]();
    await draft.getState().finished();
    const saved = server.revisions.at(-1)!.recipe;
    expect([radius(saved), saved.steps![0]!.note, radius(draft.getState().recipe)]).toEqual([
      left,
      note,
      left,
    ]);
    expect([draft.getState().conflict, keeper.kept.size]).toEqual([null, 0]);
  });

  it("drops mine where that is asked for", async () => {
    server.theirs(blurred(1));
    const draft = await opened();
    server.theirs(blurred(3));
    draft.getState().edit(() => blurred(2));
    await draft.getState().finished();
    draft.getState().takeTheirs(true);
    await draft.getState().finished();
    expect([radius(draft.getState().recipe), server.revisions.length, draft.getState().unsaved]).toEqual([
      3,
      3,
      false,
    ]);
  });

  it("takes the other's revision where there is nothing to lose, and not an answer that is out of date", async () => {
    const draft = await opened();
    const stamp = draft.getState().stamp;
    const old = await server.head();
    draft.getState().edit(add("a"));
    await draft.getState().finished();
    draft.getState().hear(old, stamp);
    expect(shown(draft)).toBe("a");
    server.theirs(recipe("x"));
    draft.getState().hear(await server.head(), draft.getState().stamp);
    expect(shown(draft)).toBe("x");
    server.theirs(recipe("y"));
    draft.getState().undo(true);
    await draft.getState().finished();
    expect([shown(draft), draft.getState().conflict]).toEqual(["y", null]);
  });
});

describe("what somebody else does to what is mine", () => {
  const set =
    (value: number) =>
    (before: Recipe): Recipe => ({
      ...before,
      steps: (before.steps ?? []).map((step) =>
        step.name === "b" ? { ...step, set: { white: value } } : step,
      ),
    });

  const add =
    (name: string) =>
    (before: Recipe): Recipe => ({
      ...before,
      steps: [...(before.steps ?? []), { name, op: "invert" }],
    });

  it("is told, whatever else there is to be told, until it is read", async () => {
    const draft = await opened();
    draft.getState().edit(add("b"));
    draft.getState().edit(set(0.25));
    await draft.getState().finished();
    // Something else first, which is not read yet.
    server.theirs(add("c")(set(0.25)(recipe("b"))));
    draft.getState().hear(await server.head(), draft.getState().stamp);
    expect([draft.getState().heard?.by, draft.getState().overridden]).toEqual(["bela", null]);
    server.theirs(add("c")(set(0.4)(recipe("b"))));
    draft.getState().hear(await server.head(), draft.getState().stamp);
    const place = { where: "b: white", mine: "0.25", theirs: "0.4" };
    expect(draft.getState().overridden?.places).toEqual([place]);
    // What changes further is news, and takes nothing of that away.
    server.theirs(add("d")(add("c")(set(0.4)(recipe("b")))));
    draft.getState().hear(await server.head(), draft.getState().stamp);
    expect(draft.getState().overridden?.places).toEqual([place]);
    draft.getState().dismiss();
    expect(draft.getState().overridden).toBeNull();
    // What I set anew is mine again.
    draft.getState().edit(set(0.5));
    await draft.getState().finished();
    server.theirs(recipe("c", "d"));
    draft.getState().hear(await server.head(), draft.getState().stamp);
    expect(draft.getState().overridden?.places).toMatchObject([
      { where: "b", theirs: "taken away, or never there" },
    ]);
  });

  it("is told of what is long, and of what is set in a step that is mine", async () => {
    const strokes = (last: number) => ({
      strokes: [...Array.from({ length: 40 }, (_, at) => [at, at]), [last, last]],
    });
    const drawn = (last: number): Recipe => ({
      nexal: 1,
      steps: [{ name: "b", op: "touch_up", set: strokes(last) }],
    });
    const draft = await opened();
    draft.getState().edit(() => drawn(1));
    await draft.getState().finished();
    server.theirs(drawn(2));
    draft.getState().hear(await server.head(), draft.getState().stamp);
    expect(draft.getState().overridden?.places.map(({ where }) => where)).toEqual(["b: strokes"]);
    draft.getState().dismiss();
    // What they change of what is theirs by now is theirs.
    server.theirs(drawn(3));
    draft.getState().hear(await server.head(), draft.getState().stamp);
    expect(draft.getState().overridden).toBeNull();
  });

  it("is told where it comes with a save of mine that touches nothing of it", async () => {
    const draft = await opened();
    draft.getState().edit(add("b"));
    draft.getState().edit(set(0.25));
    await draft.getState().finished();
    server.theirs(set(0.4)(recipe("b")));
    draft.getState().edit(add("e"));
    await draft.getState().finished();
    expect(server.seen).toBe("be");
    expect(draft.getState().merged?.by).toBe("bela");
    expect(draft.getState().overridden?.places).toEqual([{ where: "b: white", mine: "0.25", theirs: "0.4" }]);
  });

  it("is not taken back by undo before it was asked", async () => {
    const draft = await opened();
    draft.getState().edit(add("b"));
    await draft.getState().finished();
    server.theirs(recipe("b", "c"));
    draft.getState().hear(await server.head(), draft.getState().stamp);
    draft.getState().undo();
    draft.getState().undo();
    await draft.getState().finished();
    expect([shown(draft), draft.getState().foreign?.number, server.asked.includes("undo")]).toEqual([
      "bc",
      3,
      false,
    ]);
    draft.getState().leaveForeign();
    expect(draft.getState().foreign).toBeNull();
    draft.getState().undo();
    await draft.getState().finished();
    draft.getState().undo(true);
    await draft.getState().finished();
    expect([shown(draft), draft.getState().foreign]).toEqual(["b", null]);
    // One's own is taken back at once.
    draft.getState().undo();
    await draft.getState().finished();
    expect(shown(draft)).toBe("");
  });
});
