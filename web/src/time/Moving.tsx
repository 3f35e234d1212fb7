import type { ReactNode } from "react";

import type { Step } from "@/api/recipe";

import { Course } from "./Course";
import { type Place, canMove, isKeyed, valueIn } from "./keys";
import { Notch } from "./Notch";
import { useWhole } from "./whole";

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
  const whole = useWhole();
  const value = step ? (valueIn(step, place) ?? initial) : undefined;
  const keyed = isKeyed(value) ? value.keys : null;
  if (!step || (!keyed && !canMove(value))) return <>{children}</>;
  const what = label.toLowerCase();
  return (
    <div className="group/moving relative" data-setting={JSON.stringify(place)}>
      {children}
      {writable && (
        <Notch
          step={step}
          place={place}
          label={label}
          initial={initial}
          className="absolute -left-2.5 top-0"
        />
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
