import type { Asked, Job, Painted } from "./painter.worker";

/** Two painters, so that a large stage picture does not hold up the thumbnails. */
class Painter {
  private readonly worker = new Worker(new URL("./painter.worker.ts", import.meta.url), { type: "module" });
  private readonly waiting = new Map<number, (bitmap: ImageBitmap) => void>();
  private next = 0;

  constructor() {
    this.worker.onmessage = (event: MessageEvent<Painted>) => {
      this.waiting.get(event.data.id)?.(event.data.bitmap);
      this.waiting.delete(event.data.id);
    };
  }

  paint(job: Job): Promise<ImageBitmap> {
    const id = this.next++;
    return new Promise((resolve) => {
      this.waiting.set(id, resolve);
      this.worker.postMessage({ id, job } satisfies Asked);
    });
  }
}

const painters = new Map<string, Painter>();

/** Turn planes into a picture, in a worker. */
export function paintIn(place: "stage" | "small", job: Job): Promise<ImageBitmap> {
  const painter = painters.get(place) ?? new Painter();
  painters.set(place, painter);
  return painter.paint(job);
}
