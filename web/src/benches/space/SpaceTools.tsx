import type { Step } from "@/api/recipe";
import type { Placement } from "@/stage/geometry";

import { ShapeHandles } from "./ShapeHandles";
import { outlinesOf } from "./shape";

interface Props {
  step: Step | undefined;
  camera: number[] | null;
  placement: Placement;
  writable: boolean;
  /** Closed lines round what lies under the pointer. */
  under: number[][][];
}

/** Over the picture: the outline of a shape of space, as the camera sees it, and of what would be picked. */
export function SpaceTools({ step, camera, placement, writable, under }: Props) {
  const shape = step?.op === "space_matte" && camera ? outlinesOf(step, camera) : [];
  const at = ([x = 0, y = 0]: number[]) =>
    `${((x - placement.left) * placement.zoom).toFixed(1)},${((y - placement.top) * placement.zoom).toFixed(1)}`;
  return (
    <>
      <svg
        className="pointer-events-none absolute inset-0 h-full w-full"
        aria-hidden
        data-testid="space-outline"
      >
        {shape.map((line, index) => (
          <polyline
            key={index}
            points={line.map(at).join(" ")}
            fill="none"
            stroke="var(--lichen)"
            strokeWidth={1.2}
            strokeDasharray="5 3"
          />
        ))}
        {under.map((line, index) => (
          <polygon
            key={index}
            data-testid="under"
            points={line.map(at).join(" ")}
            fill="none"
            stroke="var(--clay)"
            strokeWidth={1.4}
          />
        ))}
      </svg>
      {camera && writable && <ShapeHandles step={step} camera={camera} placement={placement} />}
    </>
  );
}
