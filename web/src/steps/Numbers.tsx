import { Pipette } from "lucide-react";

import { Button } from "@/parts/Button";
import { NumberBox } from "@/parts/NumberBox";
import { encode } from "@/stage/halves";

interface Props {
  label: string;
  value: number[];
  step: number;
  /** Shown as a swatch where the numbers are a colour. */
  colour?: boolean;
  /** The colour's numbers are display values already. */
  encoded?: boolean | undefined;
  onChange: (value: number[], done: boolean) => void;
  onPick?: (() => void) | undefined;
}

/** Two to four numbers side by side, a swatch where they are a colour, a dropper where they can be picked. */
export function Numbers({ label, value, step, colour, encoded, onChange, onPick }: Props) {
  const byte = (number: number) => {
    const held = Math.min(1, Math.max(0, number));
    return Math.round(255 * (encoded ? held : encode(held)));
  };
  const [r = 0, g = r, b = r] = value;
  return (
    <div className="flex min-w-0 items-center gap-0.5">
      {colour && (
        <span
          aria-hidden
          className="mr-1 h-4 w-4 shrink-0 rounded-sm border border-line"
          style={{ background: `rgb(${byte(r)} ${byte(g)} ${byte(b)})` }}
        />
      )}
      {value.map((number, index) => (
        <NumberBox
          key={index}
          label={`${label} ${index + 1}`}
          value={number}
          step={step}
          className="min-w-0 [&_input]:w-12"
          onChange={(next, done) =>
            onChange(
              value.map((old, at) => (at === index ? next : old)),
              done,
            )
          }
        />
      ))}
      {onPick && (
        <Button quiet className="px-1!" aria-label={`Pick ${label} from the picture`} onClick={onPick}>
          <Pipette size={12} />
        </Button>
      )}
    </div>
  );
}
