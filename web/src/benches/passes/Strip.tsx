import { X } from "lucide-react";
import { Slider } from "radix-ui";
import type { ReactNode } from "react";

import { Button } from "@/parts/Button";
import { NumberBox } from "@/parts/NumberBox";
import { useSliding } from "@/parts/useSliding";

export const MOST_STOPS = 6;

interface Props {
  name: string;
  title: string;
  stops: number;
  /** Part of the sum's light, 0 to 1; undefined where it is not known. */
  share: number | undefined;
  quiet: boolean;
  picture: ReactNode;
  children?: ReactNode;
  onStops: (stops: number, done: boolean) => void;
  onRemove?: (() => void) | undefined;
  /** Makes the fader move over time. */
  notch?: ReactNode;
}

/** One upright strip of the desk: picture, fader in stops, meter, number. */
export function Strip({
  name,
  title,
  stops,
  share,
  quiet,
  picture,
  children,
  onStops,
  onRemove,
  notch,
}: Props) {
  const sliding = useSliding(stops, onStops);
  return (
    <section
      aria-label={`Pass ${name}`}
      data-setting
      className={`group group/moving flex w-[76px] shrink-0 flex-col gap-1.5 border-r border-line px-1.5 py-2 ${quiet ? "opacity-55" : ""}`}
    >
      <div className="relative">
        {picture}
        {onRemove && (
          <Button
            quiet
            aria-label={`Take ${name} out of the sum`}
            className="absolute right-0 top-0 h-4! px-0.5! opacity-0 group-focus-within:opacity-100 group-hover:opacity-100"
            onClick={onRemove}
          >
            <X size={11} />
          </Button>
        )}
      </div>
      <span className="truncate text-center text-[12px] leading-tight" title={title}>
        {name}
      </span>
      <div className="flex min-h-0 grow justify-center gap-2">
        <Slider.Root
          orientation="vertical"
          className="relative flex w-5 touch-none flex-col items-center"
          value={[Math.min(MOST_STOPS, Math.max(-MOST_STOPS, stops))]}
          min={-MOST_STOPS}
          max={MOST_STOPS}
          step={0.05}
          {...sliding}
          onDoubleClick={() => onStops(0, true)}
        >
          <Slider.Track className="relative w-[3px] grow rounded-full bg-line">
            <span aria-hidden className="absolute -left-1.5 top-1/2 h-px w-[15px] bg-faint" />
          </Slider.Track>
          <Slider.Thumb
            aria-label={`Stops of ${name}`}
            className="block h-2.5 w-6 rounded-[2px] border border-stage bg-text outline-none focus-visible:ring-1 focus-visible:ring-lichen"
          />
        </Slider.Root>
        <div
          role="meter"
          aria-label={`Share of ${name}`}
          aria-valuenow={share === undefined ? undefined : Math.round(share * 100)}
          aria-valuemin={0}
          aria-valuemax={100}
          title={share === undefined ? "" : `${(share * 100).toFixed(1)} % of the light`}
          className="relative w-1.5 rounded-full bg-well"
        >
          <span
            className="absolute inset-x-0 bottom-0 rounded-full bg-lichen"
            style={{ height: `${Math.round((share ?? 0) * 100)}%` }}
          />
        </div>
      </div>
      <div className="relative">
        {notch}
        <NumberBox
          label={`Stops of ${name}, number`}
          value={stops}
          step={0.05}
          min={-40}
          max={40}
          className="justify-center [&_input]:w-12 [&_input]:text-center"
          onChange={onStops}
        />
      </div>
      {children}
    </section>
  );
}
