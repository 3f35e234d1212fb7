import type { Step } from "@/api/recipe";
import { wordsOf } from "@/steps/schema";

import { Course } from "./Course";
import { type Place, movingIn } from "./keys";
import { useWhole } from "./whole";

/** What moves in a step beyond the settings that are drawn by themselves: bars, passes, curves. */
export function Courses({
  step,
  apart,
  writable,
}: {
  step: Step | undefined;
  apart: string[];
  writable: boolean;
}) {
  const whole = useWhole();
  // Curves show theirs in their own list.
  const moving = movingIn(step)
    .filter(({ place }) => place[0] !== "paths")
    .filter(({ place }) => place.length > 1 || !apart.includes(String(place[0])));
  if (!step || !whole || !moving.length) return null;
  return (
    <div className="space-y-2 border-t border-line pt-3">
      {moving.map(({ place, keys }) => (
        <div key={JSON.stringify(place)}>
          <span className="text-dim">{nameOf(place)}</span>
          <Course
            step={step.name}
            place={place}
            label={nameOf(place)}
            keys={keys}
            range={whole}
            fine={0.01}
            writable={writable}
          />
        </div>
      ))}
    </div>
  );
}

/** A place in words: `curve 2, points`. */
function nameOf(place: Place): string {
  const words = place.flatMap((part, index) =>
    typeof part === "number"
      ? []
      : typeof place[index + 1] === "number"
        ? [
            `${part === "paths" ? "curve" : wordsOf(part).toLowerCase().replace(/s$/, "")} ${Number(place[index + 1]) + 1}`,
          ]
        : [wordsOf(part).toLowerCase()],
  );
  return words.join(", ");
}
