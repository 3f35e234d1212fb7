import { useDraft } from "@/shot/draft";
import { findStep, type Step } from "@/api/recipe";

import { toggleKey } from "./editing";
import { type Place, canMove, isKeyed, valueIn } from "./keys";
import { useTime } from "./timeState";

interface Props {
  /** The step as it is saved, with its keys. */
  step: Step;
  place: Place;
  label: string;
  /** What holds where nothing is set. */
  initial: unknown;
  className?: string;
}

/** Makes what stands at a place of a step move, or takes its key at the present frame away; also by K beside it. */
export function Notch({ step, place, label, initial, className = "" }: Props) {
  const frame = useTime((state) => state.frame);
  const value = valueIn(step, place) ?? initial;
  const keyed = isKeyed(value);
  const here = keyed && value.keys.some((key) => key[0] === frame);
  const what = label.toLowerCase();
  if (!keyed && !canMove(value)) return null;
  return (
    <button
      type="button"
      data-notch
      aria-pressed={here}
      aria-label={
        here ? `Take the key of ${what} at frame ${frame} away` : `Make a key of ${what} at frame ${frame}`
      }
      title={
        here
          ? `${label} has a key at frame ${frame}: take it away (K)`
          : keyed
            ? `${label} moves: make a key at frame ${frame} (K)`
            : `Let ${what} move: make a key at frame ${frame}`
      }
      onClick={() => toggleKey(step.name, place, initial)}
      className={`flex h-5 w-2.5 items-center justify-center ${className}`}
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
  );
}

/** The notch of something that has a control of its own: a pass of a sum, a bar of a bay. */
export function OwnNotch({
  step: name,
  writable = true,
  ...rest
}: Omit<Props, "step"> & { step: string; writable?: boolean }) {
  const step = useDraft((state) => findStep(state.recipe, name));
  return step && writable ? <Notch step={step} {...rest} /> : null;
}
