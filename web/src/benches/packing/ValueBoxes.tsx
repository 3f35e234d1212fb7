import { NumberBox } from "@/parts/NumberBox";

interface Props {
  label: string;
  /** 0 to 1. */
  value: number;
  onChange: (value: number, done: boolean) => void;
}

const held = (value: number) => Number(Math.min(1, Math.max(0, value)).toFixed(6));

/** One value as per cent, as a code of 8 bit and as a part of 1; each can be typed or dragged. */
export function ValueBoxes({ label, value, onChange }: Props) {
  return (
    <span className="grid grid-cols-[52px_34px_40px] items-baseline justify-end [&_input]:w-full [&_input]:px-0.5">
      <NumberBox
        label={`${label} in per cent`}
        value={Number((value * 100).toFixed(4))}
        step={1}
        places={0}
        min={0}
        max={100}
        unit="%"
        onChange={(next, done) => onChange(held(next / 100), done)}
      />
      <NumberBox
        label={`${label} as a code of 255`}
        value={Math.floor(value * 255 + 0.5)}
        step={1}
        places={0}
        min={0}
        max={255}
        className="opacity-70"
        onChange={(next, done) => onChange(held(next / 255), done)}
      />
      <NumberBox
        label={`${label} as a part of 1`}
        value={value}
        step={0.01}
        min={0}
        max={1}
        className="opacity-70"
        onChange={(next, done) => onChange(held(next), done)}
      />
    </span>
  );
}
