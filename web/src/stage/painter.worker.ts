/// <reference lib="webworker" />
import { type Look, type Planes, contour, paint, removed, unlike } from "./painting";

export type Job =
  | { kind: "paint"; planes: Planes; look: Look }
  | { kind: "removed"; planes: Planes }
  | { kind: "contour"; planes: Planes; picture: Planes };

export interface Asked {
  id: number;
  job: Job;
}

export interface Painted {
  id: number;
  bitmap: ImageBitmap;
}

self.onmessage = (event: MessageEvent<Asked>) => {
  const { id, job } = event.data;
  const [, , width, height] = job.planes.region;
  const pixels =
    job.kind === "paint"
      ? paint(job.planes, job.look)
      : job.kind === "removed"
        ? removed(job.planes)
        : contour(job.planes, unlike(job.picture));
  // Premultiplying a bitmap of opaque or white pixels changes nothing.
  void createImageBitmap(new ImageData(pixels, width, height), { colorSpaceConversion: "none" }).then(
    (bitmap) => (self as DedicatedWorkerGlobalScope).postMessage({ id, bitmap } satisfies Painted, [bitmap]),
  );
};
