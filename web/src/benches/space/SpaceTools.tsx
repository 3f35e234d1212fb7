import type { Step } from "@/api/recipe";
import type { Placement } from "@/stage/geometry";

import { outlinesOf } from "./outline";

interface Props {
  step: Step | undefined;
  camera: number[] | null;
  placement: Placement;
}

/** The outline of a shape of space, as the camera sees it, over the picture. */
export function SpaceTools({ step, camera, placement }: Props) {
  if (step?.op !== "space_matte" || !camera) return null;
  const lines = outlinesOf(step, camera);
  const at = ([x, y]: [number, number]) =>
    `${((x - placement.left) * placement.zoom).toFixed(1)},${((y - placement.top) * placement.zoom).toFixed(1)}`;
  return (
    <svg
      className="pointer-events-none absolute inset-0 h-full w-full"
      aria-hidden
      data-testid="space-outline"
    >
      {lines.map((line, index) => (
        <polyline
          key={index}
          points={line.map(at).join(" ")}
          fill="none"
          stroke="var(--lichen)"
          strokeWidth={1.2}
          strokeDasharray="5 3"
        />
      ))}
    </svg>
  );
}
