import { ApiError, type Problem, postForBytes, problemOf } from "@/api/client";
import { type Recipe, drafted } from "@/api/recipe";

import { type Planes, planesIn } from "./painting";

/** As many as the server answers together; more come after. */
const AT_ONCE = 64;

const NOT_ANSWERED: Problem = {
  code: "http",
  message: "the server left this picture out",
  where: "",
  remedy: "try again",
};

type Row = { address: string } & (
  { view: Omit<Planes, "samples">; bytes: number } | { problem: Problem } | { later: true }
);

interface Wish {
  address: string;
  resolve: (planes: Planes) => void;
  reject: (error: Error) => void;
}

/** Small pictures of one recipe that are wanted and not here yet. */
class Batch {
  private readonly wishes = new Set<Wish>();
  private running = false;
  private flight: { wishes: Wish[]; abort: AbortController } | null = null;

  constructor(
    private readonly shot: number,
    private readonly recipe: Recipe,
  ) {}

  wish(address: string, signal: AbortSignal): Promise<Planes> {
    return new Promise((resolve, reject) => {
      const wish: Wish = { address, resolve, reject };
      this.wishes.add(wish);
      signal.addEventListener("abort", () => this.giveUp(wish));
      void this.run();
    });
  }

  private async run(): Promise<void> {
    if (this.running) return;
    this.running = true;
    // What appears together is asked for together.
    await new Promise((resolve) => setTimeout(resolve));
    while (this.wishes.size) {
      // What came into sight last is what is looked at.
      const wishes = [...this.wishes].slice(-AT_ONCE);
      const abort = new AbortController();
      this.flight = { wishes, abort };
      try {
        const rows = await this.ask([...new Set(wishes.map(({ address }) => address))], abort.signal);
        for (const wish of wishes) this.answer(wish, rows.get(wish.address));
      } catch (error) {
        for (const wish of wishes) this.end(wish, () => wish.reject(asError(error)));
      }
    }
    this.flight = null;
    this.running = false;
  }

  /** What is out of sight again is not asked for, or not waited for. */
  private giveUp(wish: Wish): void {
    this.wishes.delete(wish);
    if (this.flight?.wishes.every((other) => !this.wishes.has(other))) this.flight.abort.abort();
  }

  private async ask(addresses: string[], signal: AbortSignal): Promise<Map<string, Planes | Problem | null>> {
    const body = { ...drafted(this.recipe), addresses };
    const { bytes } = await postForBytes(`/api/shots/${this.shot}/pictures`, body, signal);
    const head = new DataView(bytes).getUint32(0, true);
    const rows = JSON.parse(new TextDecoder().decode(new Uint8Array(bytes, 4, head))) as Row[];
    let at = 4 + head;
    const answers = new Map<string, Planes | Problem | null>();
    for (const row of rows) {
      if ("view" in row) {
        // A copy each: one that stays does not keep all.
        answers.set(row.address, planesIn(row.view, bytes.slice(at, at + row.bytes)));
        at += row.bytes;
      } else answers.set(row.address, "problem" in row ? row.problem : null);
    }
    return answers;
  }

  private answer(wish: Wish, answer: Planes | Problem | null | undefined): void {
    // What is to come later is asked for again; what was not answered at all would be for ever.
    if (answer === null) return;
    const problem = answer && "code" in answer ? answer : NOT_ANSWERED;
    if (answer && !("code" in answer)) this.end(wish, () => wish.resolve(answer));
    else this.end(wish, () => wish.reject(new ApiError(422, problem)));
  }

  private end(wish: Wish, then: () => void): void {
    this.wishes.delete(wish);
    then();
  }
}

const asError = (error: unknown) => (error instanceof Error ? error : new ApiError(0, problemOf(error)));

const batches = new WeakMap<Recipe, Map<number, Batch>>();

/** The small picture of an item; all that are wanted of a recipe at a time are one request. */
export function smallPlanes(
  shot: number,
  recipe: Recipe,
  address: string,
  signal: AbortSignal,
): Promise<Planes> {
  const ofRecipe = batches.get(recipe) ?? new Map<number, Batch>();
  batches.set(recipe, ofRecipe);
  const batch = ofRecipe.get(shot) ?? new Batch(shot, recipe);
  ofRecipe.set(shot, batch);
  return batch.wish(address, signal);
}
