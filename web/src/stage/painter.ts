import type { Asked, Job, Painted } from "./painter.worker";

interface Waiting {
  resolve: (bitmap: ImageBitmap) => void;
  reject: (fault: Error) => void;
}

/** Two painters, so that a large stage picture does not hold up the thumbnails. */
class Painter {
  private worker = this.started();
  private readonly waiting = new Map<number, Waiting>();
  private next = 0;

  private started(): Worker {
    const worker = new Worker(new URL("./painter.worker.ts", import.meta.url), { type: "module" });
    worker.onmessage = ({ data }: MessageEvent<Painted>) => {
      const waiting = this.waiting.get(data.id);
      this.waiting.delete(data.id);
      if ("bitmap" in data) waiting?.resolve(data.bitmap);
      else waiting?.reject(new Error(data.fault));
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

  paint(job: Job): Promise<ImageBitmap> {
    const id = this.next++;
    return new Promise((resolve, reject) => {
      this.waiting.set(id, { resolve, reject });
      this.worker.postMessage({ id, job } satisfies Asked);
    });
  }
}

const painters = new Map<string, Painter>();

/** Turn planes into a picture, in a worker. Rejects where it cannot be painted. */
export function paintIn(place: "stage" | "small", job: Job): Promise<ImageBitmap> {
  const painter = painters.get(place) ?? new Painter();
  painters.set(place, painter);
  return painter.paint(job);
}
