import { useEffect, useRef, useState } from "react";

import { problemOf } from "@/api/client";

import { coverageWords } from "./coverage";
import { paintIn } from "./painter";
import type { Look, Planes } from "./painting";

interface Props {
  planes: Planes | undefined;
  /** Why there is none. */
  error?: unknown;
  look?: Partial<Look>;
  label: string;
  className?: string;
}

/** Planes as a small picture, the whole display window in view; where it fails to come, the reason stands there. */
export function SmallPicture({ planes, error, look, label, className = "" }: Props) {
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
  if (error && !planes) {
    const problem = problemOf(error);
    return (
      <span
        role="img"
        aria-label={`${label}: ${problem.message}`}
        title={`${problem.where ? `${problem.where}: ` : ""}${problem.message}${problem.remedy ? `; ${problem.remedy}` : ""}`}
        className={`flex items-center justify-center overflow-hidden bg-well px-1 text-center text-[11px] leading-tight text-dim ${className}`}
      >
        <span className="line-clamp-2">
          {problem.code === "pending" ? "not computed yet" : problem.message}
        </span>
      </span>
    );
  }
  return (
    <canvas
      ref={canvas}
      role="img"
      aria-label={[label, coverageWords(planes)].filter(Boolean).join(", ")}
      className={`block bg-stage object-contain ${painted ? "" : "animate-[breathe_1.6s_ease-in-out_infinite]"} ${className}`}
    />
  );
}
