import { useEffect, useRef, useState } from "react";

import { paintIn } from "@/stage/painter";
import type { Planes } from "@/stage/painting";

/** Finished planes drawn to fill their box. */
export function Painted({ planes, name, busy }: { planes: Planes | null; name: string; busy: boolean }) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const order = useRef(0);
  const [drawn, setDrawn] = useState("");
  useEffect(() => {
    if (!planes) return;
    const mine = ++order.current;
    const look = { exposure: 0, backing: { kind: "none" as const } };
    void paintIn("stage", { kind: "paint", planes, look }).then((bitmap) => {
      const target = canvas.current;
      if (mine === order.current && target) {
        target.width = bitmap.width;
        target.height = bitmap.height;
        target.getContext("2d")?.drawImage(bitmap, 0, 0);
        setDrawn(planes.digest);
      }
      bitmap.close();
    });
  }, [planes]);
  return (
    <canvas
      ref={canvas}
      data-testid={name}
      data-state={planes && drawn === planes.digest && !busy ? "ready" : "busy"}
      className="absolute inset-0 h-full w-full"
    />
  );
}
