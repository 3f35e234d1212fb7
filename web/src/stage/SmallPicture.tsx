import { useEffect, useRef, useState } from "react";

import { paintIn } from "./painter";
import type { Look, Planes } from "./painting";

interface Props {
  planes: Planes | undefined;
  look?: Partial<Look>;
  label: string;
  className?: string;
}

/** Planes as a small picture, the whole display window in view. */
export function SmallPicture({ planes, look, label, className = "" }: Props) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const [painted, setPainted] = useState(false);
  const key = JSON.stringify(look ?? {});
  useEffect(() => {
    let gone = false;
    if (!planes) return;
    const full: Look = {
      exposure: 0,
      backing: { kind: "weave", cell: 40 },
      ...(JSON.parse(key) as Partial<Look>),
    };
    void paintIn("small", { kind: "paint", planes, look: full }).then(
      (bitmap) => {
        const target = canvas.current;
        if (!gone && target) {
          target.width = bitmap.width;
          target.height = bitmap.height;
          target.getContext("2d")?.drawImage(bitmap, 0, 0);
          setPainted(true);
        }
        bitmap.close();
      },
      // An empty frame that is still: nothing is on its way.
      () => setPainted(true),
    );
    return () => {
      gone = true;
    };
  }, [planes, key]);
  return (
    <canvas
      ref={canvas}
      role="img"
      aria-label={label}
      className={`block bg-stage object-contain ${painted ? "" : "animate-[breathe_1.6s_ease-in-out_infinite]"} ${className}`}
    />
  );
}
