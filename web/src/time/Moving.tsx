import type { ReactNode } from "react";

import type { Step } from "@/api/recipe";

import { Course } from "./Course";
import { toggleKey } from "./editing";
import { type Place, canMove, isKeyed, valueIn } from "./keys";
import { useWhole } from "./whole";
import { useTime } from "./timeState";

interface Props {
  /** The step as it is saved, with its keys. */
  step: Step | undefined;
  place: Place;
  label: string;
  /** What holds where nothing is set. */
  initial: unknown;
  fine?: number | undefined;
  writable: boolean;
  children: ReactNode;
}

/** A setting with its notch at the left, which makes it move, and its course under it while it does. */
export function Moving({ step, place, label, initial, fine = 0.01, writable, children }: Props) {
  const frame = useTime((state) => state.frame);
  const whole = useWhole();
  const value = step ? (valueIn(step, place) ?? initial) : undefined;
  const keyed = isKeyed(value) ? value.keys : null;
  const here = keyed?.some((key) => key[0] === frame) ?? false;
  if (!step || (!keyed && !canMove(value))) return <>{children}</>;
  const what = label.toLowerCase();
  return (
    <div className="group/moving relative" data-setting={JSON.stringify(place)}>
      {children}
      {writable && (
        <button
          type="button"
          data-notch
          aria-pressed={here}
          aria-label={
            here
              ? `Take the key of ${what} at frame ${frame} away`
              : `Make a key of ${what} at frame ${frame}`
          }
          title={
            here
              ? `${label} has a key at frame ${frame}: take it away (K)`
              : keyed
                ? `${label} moves: make a key at frame ${frame} (K)`
                : `Let ${what} move: make a key at frame ${frame}`
          }
          onClick={() => toggleKey(step.name, place, initial)}
          className="absolute -left-2.5 top-0 flex h-5 w-2.5 items-center justify-center"
        >
          <span
            className={`h-3 w-[3px] rounded-[1px] ${
              here
                ? "bg-lichen"
                : keyed
                  ? "border border-lichen"
                  : "bg-line group-focus-within/moving:bg-faint group-hover/moving:bg-faint"
            }`}
          />
        </button>
      )}
      {keyed && whole && (
        <Course
          step={step.name}
          place={place}
          label={what}
          keys={keyed}
          range={whole}
          fine={fine}
          writable={writable}
        />
      )}
    </div>
  );
}
