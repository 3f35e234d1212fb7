import { describe, expect, it } from "vitest";

import { ApiError } from "@/api/client";
import type { Planes } from "@/stage/painting";
import { type Followed, Follower } from "@/stage/planes";

const planes = (digest: string) => ({ digest, pending: null }) as unknown as Planes;
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
    await turn();
    expect(asked).toHaveLength(3);
    asked[2]!.refuse("too_much");
    await turn();
    want("a");
    await turn();
    expect(asked).toHaveLength(3);
    expect(state()).toMatchObject({ planes: null, busy: false, problem: { code: "too_much" } });
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
