import { ApiError, GIVEN_UP } from "@/api/bytes";

import type { Answer, Asked, Fetched, Job, Wanted } from "./painter.worker";
import { type Planes, planesIn } from "./painting";

interface Waiting {
  resolve: (answer: Exclude<Answer, { fault: string }>) => void;
  reject: (fault: Error) => void;
}

type Question = { job: Job } | { wanted: Wanted };

/** Two painters, so that a large stage picture does not hold up the thumbnails. */
class Painter {
  private worker = this.started();
  private readonly waiting = new Map<number, Waiting>();
  private next = 0;

  private started(): Worker {
    const worker = new Worker(new URL("./painter.worker.ts", import.meta.url), { type: "module" });
    worker.onmessage = ({ data }: MessageEvent<Answer>) => {
      const waiting = this.waiting.get(data.id);
      this.waiting.delete(data.id);
      if ("fault" in data) waiting?.reject(new Error(data.fault));
      else if (waiting) waiting.resolve(data);
      // Nobody waits any more for a picture that holds memory.
      else if ("fetched" in data) data.fetched.bitmap?.close();
    };
    worker.onerror = () => {
      // The painter itself is gone: what it was asked for will not come, what is asked for next goes to another.
      worker.terminate();
      for (const waiting of this.waiting.values()) waiting.reject(new Error("the painter stopped"));
      this.waiting.clear();
      this.worker = this.started();
    };
    return worker;
  }

  private ask(question: Question, signal?: AbortSignal): Promise<Exclude<Answer, { fault: string }>> {
    const id = this.next++;
    return new Promise((resolve, reject) => {
      this.waiting.set(id, { resolve, reject });
      this.worker.postMessage({ id, ...question } satisfies Asked);
      signal?.addEventListener("abort", () => {
        if (!this.waiting.delete(id)) return;
        this.worker.postMessage({ id, givenUp: true } satisfies Asked);
        reject(new ApiError(0, GIVEN_UP));
      });
    });
  }

  async paint(job: Job): Promise<ImageBitmap> {
    const answer = await this.ask({ job });
    if ("bitmap" in answer) return answer.bitmap;
    throw new Error("the painter answered something else");
  }

  async fetch(wanted: Wanted, signal: AbortSignal): Promise<Fetched> {
    if (signal.aborted) throw new ApiError(0, GIVEN_UP);
    const answer = await this.ask({ wanted }, signal);
    if ("fetched" in answer) return answer.fetched;
    if ("refused" in answer) throw new ApiError(answer.refused.status, answer.refused.problem);
    throw new Error("the painter answered something else");
  }
}

const painters = new Map<string, Painter>();

function painterOf(place: "stage" | "small"): Painter {
  const painter = painters.get(place) ?? new Painter();
  painters.set(place, painter);
  return painter;
}

/** Start the painters before there is something to paint: they load while the page waits for its first answers. */
export function beginPainting(): void {
  painterOf("stage");
  painterOf("small");
}

/** Turn planes into a picture, in a worker. Rejects where it cannot be painted. */
export function paintIn(place: "stage" | "small", job: Job): Promise<ImageBitmap> {
  return painterOf(place).paint(job);
}

/** The pictures that came with planes, and how they are seen. */
const came = new WeakMap<Planes, { bitmap: ImageBitmap; look: string }>();

/**
 * Ask for planes and have them painted at once, in a worker: the page may be busy meanwhile. `look` is what the picture
 * is known by (`paintedAs`). Throws ApiError; other errors where the worker failed.
 */
export async function fetchPainted(wanted: Wanted, look: string, signal: AbortSignal): Promise<Planes> {
  const { about, bytes, bitmap } = await painterOf("stage").fetch(wanted, signal);
  const planes = planesIn(about, bytes);
  if (bitmap) came.set(planes, { bitmap, look });
  return planes;
}

/** Give back the memory of a picture that came with planes and is not shown. */
export function dropPainted(planes: Planes): void {
  came.get(planes)?.bitmap.close();
  came.delete(planes);
}

/** The picture that came with planes, if it looks so. */
export function paintedAs(planes: Planes, look: string): ImageBitmap | null {
  const painted = came.get(planes);
  // One that was replaced has been closed.
  return painted?.look === look && painted.bitmap.width > 0 ? painted.bitmap : null;
}
