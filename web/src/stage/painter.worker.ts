/// <reference lib="webworker" />
import { ApiError, type Problem, forBytes } from "@/api/bytes";

import {
  type About,
  type Look,
  type Planes,
  aboutOf,
  contour,
  paint,
  planesIn,
  removed,
  unlike,
  unsure,
} from "./painting";

export type Job =
  | { kind: "paint"; planes: Planes; look: Look }
  | { kind: "removed"; planes: Planes }
  | { kind: "contour" | "unsure"; planes: Planes; picture: Planes };

/** Planes to be asked for, and how they will be seen. */
export interface Wanted {
  url: string;
  init: { method: string; headers: Record<string, string>; body: string };
  look: Look;
}

export type Asked =
  | { id: number; job: Job }
  | { id: number; wanted: Wanted }
  /** What is wanted of that number is wanted no longer. */
  | { id: number; givenUp: true };

/** Planes as they came, and their picture; none where they could not be painted. */
export interface Fetched {
  about: About;
  bytes: ArrayBuffer;
  bitmap: ImageBitmap | null;
}

/** A picture, planes that were asked for, or why there is nothing. */
export type Answer =
  | { id: number; bitmap: ImageBitmap }
  | { id: number; fetched: Fetched }
  | { id: number; refused: { status: number; problem: Problem } }
  | { id: number; fault: string };

const worker = self as DedicatedWorkerGlobalScope;
const onTheWay = new Map<number, AbortController>();

self.onmessage = ({ data }: MessageEvent<Asked>) => {
  if ("givenUp" in data) onTheWay.get(data.id)?.abort();
  else if ("wanted" in data) void fetched(data.id, data.wanted);
  else
    painted(data.job).then(
      (bitmap) => worker.postMessage({ id: data.id, bitmap } satisfies Answer, [bitmap]),
      (fault: unknown) => worker.postMessage({ id: data.id, fault: String(fault) } satisfies Answer),
    );
};

/** Fetched and painted here, the page may be busy with drawing itself meanwhile. */
async function fetched(id: number, { url, init, look }: Wanted): Promise<void> {
  const abort = new AbortController();
  onTheWay.set(id, abort);
  try {
    const { headers, bytes } = await forBytes(url, { ...init, signal: abort.signal });
    const about = aboutOf(headers);
    const planes = planesIn(about, bytes);
    const bitmap = await painted({ kind: "paint", planes, look }).catch(() => null);
    const answer: Answer = { id, fetched: { about, bytes, bitmap } };
    worker.postMessage(answer, bitmap ? [bytes, bitmap] : [bytes]);
  } catch (error) {
    const answer: Answer =
      error instanceof ApiError
        ? { id, refused: { status: error.status, problem: error.problem } }
        : { id, fault: String(error) };
    worker.postMessage(answer);
  } finally {
    onTheWay.delete(id);
  }
}

/** Memory of the picture before, and where one is laid out: taking both anew would cost more than painting it. */
let memory = new ArrayBuffer(0);
const MOST_KEPT = 1 << 25;
const LONGEST_SIDE = 8192;
const canvas = typeof OffscreenCanvas === "undefined" ? null : new OffscreenCanvas(1, 1);
const context = canvas?.getContext("2d", { alpha: false, willReadFrequently: true }) ?? null;

async function painted(job: Job): Promise<ImageBitmap> {
  const [, , width, height] = job.planes.region;
  if (job.kind === "paint") return pictureOf(job.planes, job.look, width, height);
  const pixels =
    job.kind === "removed"
      ? removed(job.planes)
      : job.kind === "contour"
        ? contour(job.planes, unlike(job.picture))
        : unsure(job.planes, unlike(job.picture));
  // What is not opaque is white, or a tint whose last step nobody sees: premultiplying changes nothing.
  return createImageBitmap(new ImageData(pixels, width, height), { colorSpaceConversion: "none" });
}

/** An opaque picture. Throws where it is too large for this browser. */
async function pictureOf(planes: Planes, look: Look, width: number, height: number): Promise<ImageBitmap> {
  const size = width * height * 4;
  if (!canvas || !context || size > MOST_KEPT || Math.max(width, height) > LONGEST_SIDE)
    return createImageBitmap(new ImageData(paint(planes, look), width, height), {
      colorSpaceConversion: "none",
    });
  if (memory.byteLength < size) memory = new ArrayBuffer(size);
  if (canvas.width !== width) canvas.width = width;
  if (canvas.height !== height) canvas.height = height;
  context.putImageData(new ImageData(paint(planes, look, memory), width, height), 0, 0);
  // Of a canvas in plain memory a picture is had in less than half of the time that giving it away takes.
  return createImageBitmap(canvas);
}
