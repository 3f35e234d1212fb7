/// <reference lib="webworker" />
import { type Look, type Planes, contour, paint, removed, unlike, unsure } from "./painting";

export type Job =
  | { kind: "paint"; planes: Planes; look: Look }
  | { kind: "removed"; planes: Planes }
  | { kind: "contour" | "unsure"; planes: Planes; picture: Planes };

export interface Asked {
  id: number;
  job: Job;
}

/** A picture, or why there is none. */
export type Painted = { id: number; bitmap: ImageBitmap } | { id: number; fault: string };

self.onmessage = (event: MessageEvent<Asked>) => {
  const { id, job } = event.data;
  const answer = (painted: Painted, moved: Transferable[] = []) =>
    (self as DedicatedWorkerGlobalScope).postMessage(painted, moved);
  painted(job).then(
    (bitmap) => answer({ id, bitmap }, [bitmap]),
    (fault: unknown) => answer({ id, fault: String(fault) }),
  );
};

async function painted(job: Job): Promise<ImageBitmap> {
  const [, , width, height] = job.planes.region;
  const pixels =
    job.kind === "paint"
      ? paint(job.planes, job.look)
      : job.kind === "removed"
        ? removed(job.planes)
        : job.kind === "contour"
          ? contour(job.planes, unlike(job.picture))
          : unsure(job.planes, unlike(job.picture));
  // What is not opaque is white, or a tint whose last step nobody sees: premultiplying changes nothing.
  return createImageBitmap(new ImageData(pixels, width, height), { colorSpaceConversion: "none" });
}
