import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";

import { ApiError } from "@/api/client";
import type { Planes } from "@/stage/painting";
import { type Followed, Follower } from "@/stage/planes";

const planes = (digest: string, next?: number) => ({ digest, pending: null, next }) as unknown as Planes;
const turn = () => new Promise((resolve) => setTimeout(resolve, 0));

/** A follower, what it shows, and its requests in the order that they went out. */
function followed() {
  let state: Followed = { planes: null, problem: null, busy: false, late: false };
  const asked: {
    key: string;
    answer: (planes: Planes) => void;
    refuse: (code: string) => void;
    given: boolean;
  }[] = [];
  const follower = new Follower((change) => {
    state = change(state);
  });
  const end = follower.watched();
  const want = (key: string, place = "here") =>
    follower.want({
      key,
      place,
      fetch: (signal) =>
        new Promise((resolve, reject) => {
          const refuse = (code: string) =>
            reject(new ApiError(499, { code, message: "", where: "", remedy: "" }));
          const request = { key, answer: resolve, refuse, given: false };
          asked.push(request);
          signal.addEventListener("abort", () => {
            request.given = true;
            refuse("cancelled");
          });
        }),
    });
  return { follower, asked, want, end, state: () => state };
}

describe("what is followed", () => {
  it("is asked for once, also where it was told before the page was drawn with it", async () => {
    const { asked, want, state } = followed();
    want("a");
    // The page is drawn, and wants the same.
    want("a");
    await turn();
    want("a");
    expect(asked.map(({ key }) => key)).toEqual(["a"]);
    asked[0]!.answer(planes("a"));
    await turn();
    want("a");
    await turn();
    expect(asked).toHaveLength(1);
    expect(state()).toMatchObject({ planes: { digest: "a" }, busy: false, problem: null });
  });

  it("is asked for again as soon as it was answered, as it is wanted then", async () => {
    const { asked, want, state } = followed();
    for (const key of ["a", "b", "c"]) want(key);
    expect(asked.map(({ key }) => key)).toEqual(["a"]);
    asked[0]!.answer(planes("a"));
    await turn();
    expect(state()).toMatchObject({ planes: { digest: "a" }, busy: true });
    expect(asked.map(({ key }) => key)).toEqual(["a", "c"]);
    asked[1]!.answer(planes("c"));
    await turn();
    expect(state()).toMatchObject({ planes: { digest: "c" }, busy: false });
  });

  it("of another place is not waited for", async () => {
    const { asked, want, state } = followed();
    want("a");
    want("b", "there");
    await turn();
    expect(asked.map(({ key, given }) => [key, given])).toEqual([
      ["a", true],
      ["b", false],
    ]);
    asked[1]!.answer(planes("b"));
    await turn();
    expect(state()).toMatchObject({ planes: { digest: "b" }, busy: false, problem: null });
  });

  it("is told too soon where the page is drawn with something else, and that is seen then", async () => {
    const { asked, want, state } = followed();
    want("told", "quarter");
    want("drawn", "whole");
    await turn();
    expect(asked.map(({ key, given }) => [key, given])).toEqual([
      ["told", true],
      ["drawn", false],
    ]);
    asked[1]!.answer(planes("drawn"));
    await turn();
    expect(state().planes?.digest).toBe("drawn");
  });

  it("is asked for again where it was given up on its way, or by the server", async () => {
    const { asked, want, follower, state } = followed();
    want("a");
    follower.want(null);
    await turn();
    want("a");
    expect(asked).toHaveLength(2);
    // A newer request of the same view was in the way.
    asked[1]!.refuse("cancelled");
    await vi.waitFor(() => expect(asked).toHaveLength(3));
    asked[2]!.refuse("too_much");
    await turn();
    want("a");
    await turn();
    expect(asked).toHaveLength(3);
    expect(state()).toMatchObject({ planes: null, busy: false, problem: { code: "too_much" } });
  });

  it("is asked for ever less often where the server gives it up again and again", async () => {
    vi.useFakeTimers();
    try {
      const { asked, want } = followed();
      want("a");
      for (let passed = 0; passed < 10_000; passed += 10) {
        asked.at(-1)!.refuse("cancelled");
        await vi.advanceTimersByTimeAsync(10);
      }
      expect(asked.length).toBeGreaterThan(5);
      expect(asked.length).toBeLessThan(15);
      // What is wanted of another place waits for nothing.
      const before = asked.length;
      want("b", "there");
      await vi.advanceTimersByTimeAsync(1);
      expect(asked).toHaveLength(before + 1);
    } finally {
      vi.useRealTimers();
    }
  });

  it("is given up where nobody looks any more, or nothing is wanted", async () => {
    const { asked, want, end, state, follower } = followed();
    want("a");
    follower.want(null);
    await turn();
    expect(asked[0]!.given).toBe(true);
    expect(state()).toEqual({ planes: null, problem: null, busy: false, late: false });
    want("b");
    end();
    await turn();
    expect(asked.map(({ given }) => given)).toEqual([true, true]);
  });
});

describe("what many follow", () => {
  beforeEach(() => void vi.useFakeTimers());
  afterEach(() => void vi.useRealTimers());
  const keys = (asked: { key: string }[]) => asked.map(({ key }) => key);
  const pass = (milliseconds: number) => vi.advanceTimersByTimeAsync(milliseconds);

  /** One whose first wish was answered, with its turn a tenth of a second later. */
  async function answered() {
    const one = followed();
    one.want("a");
    one.asked[0]!.answer(planes("a", 100));
    await pass(0);
    return one;
  }

  it("is asked for when its turn comes, as it is wanted then", async () => {
    const { asked, want, state } = await answered();
    for (const key of ["b", "c"]) want(key);
    await pass(60);
    want("d");
    await pass(39);
    expect(keys(asked)).toEqual(["a"]);
    expect(state()).toMatchObject({ planes: { digest: "a" }, late: false });
    await pass(2);
    expect(keys(asked)).toEqual(["a", "d"]);
    asked[1]!.answer(planes("d"));
    await pass(0);
    // Where no turn is told it is asked for at once.
    want("e");
    expect(keys(asked)).toEqual(["a", "d", "e"]);
  });

  it("is asked for at once where its turn has passed", async () => {
    const { asked, want } = await answered();
    await pass(101);
    want("b");
    expect(keys(asked)).toEqual(["a", "b"]);
  });

  it("is not waited for where it is wanted of another place, such as in full once it stands still", async () => {
    const { asked, want } = await answered();
    want("b");
    await pass(10);
    want("b", "in full");
    await pass(0);
    expect(keys(asked)).toEqual(["a", "b"]);
    await pass(200);
    expect(keys(asked)).toEqual(["a", "b"]);
  });

  it("is not asked for where nobody wants it any more, or looks, by the time its turn comes", async () => {
    const wanted = await answered();
    wanted.want("b");
    wanted.follower.want(null);
    const seen = await answered();
    seen.want("b");
    seen.end();
    await pass(200);
    expect(keys(wanted.asked)).toEqual(["a"]);
    expect(keys(seen.asked)).toEqual(["a"]);
    // And is followed as ever once it is wanted again.
    wanted.want("c");
    await pass(0);
    expect(keys(wanted.asked)).toEqual(["a", "c"]);
  });
});
