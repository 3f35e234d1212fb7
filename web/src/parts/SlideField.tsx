import { Pipette } from "lucide-react";
import { Slider } from "radix-ui";

import { Button } from "./Button";
import { NumberBox } from "./NumberBox";
import { useSliding } from "./useSliding";

interface Props {
  label: string;
  title?: string;
  value: number;
  low: number;
  high: number;
  step: number;
  min?: number;
  max?: number;
  unit?: string;
  initial?: number;
  /** Begins to pick the value from the picture. */
  onPick?: (() => void) | undefined;
  /** `done` is false while the handle is being dragged. */
  onChange: (value: number, done: boolean) => void;
}

/** A slider with a readout. Shift moves it finely; a double click on the name brings the default back. */
export function SlideField({
  label,
  title,
  value,
  low,
  high,
  step,
  min,
  max,
  unit,
  initial,
  onPick,
  onChange,
}: Props) {
  const sliding = useSliding(value, onChange);
  return (
    <div className="grid grid-cols-[84px_1fr_auto] items-center gap-2">
      <span
        className="cursor-default truncate text-[12px] text-dim"
        title={title}
        onDoubleClick={() => initial !== undefined && onChange(initial, true)}
      >
        {label}
      </span>
      <Slider.Root
        className="relative flex h-5 touch-none items-center"
        value={[Math.min(high, Math.max(low, value))]}
        min={low}
        max={high}
        step={step}
        {...sliding}
      >
        <Slider.Track className="relative h-[3px] grow rounded-full bg-line">
          <Slider.Range className="absolute h-full rounded-full bg-faint" />
        </Slider.Track>
        <Slider.Thumb
          aria-label={label}
          title={`${title ?? label}: drag, or ← →; Shift moves finely`}
          className="block h-3.5 w-2 rounded-[2px] bg-text outline-none focus-visible:ring-1 focus-visible:ring-lichen"
        />
      </Slider.Root>
      <span className="flex items-center">
        {onPick && (
          <Button quiet className="px-1!" aria-label={`Pick ${label} from the picture`} onClick={onPick}>
            <Pipette size={12} />
          </Button>
        )}
        <NumberBox
          label={`${label} value`}
          value={value}
          step={step}
          min={min}
          max={max}
          unit={unit}
          onChange={onChange}
        />
      </span>
    </div>
  );
}
