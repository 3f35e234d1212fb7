import { NumberBox } from "@/parts/NumberBox";

interface Props {
  label: string;
  value: Record<string, number>;
  channels: string[];
  onChange: (value: Record<string, number>, done: boolean) => void;
}

/** A number for each channel; a channel without one is left out. */
export function ChannelNumbers({ label, value, channels, onChange }: Props) {
  const names = [...new Set([...Object.keys(value), ...channels])].slice(0, 12);
  return (
    <fieldset className="space-y-1">
      <legend className="text-[12px] text-dim">{label}</legend>
      {names.map((name) => (
        <div key={name} className="grid grid-cols-[84px_auto_1fr] items-center gap-2 text-[12px]">
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              checked={name in value}
              onChange={(event) => {
                const next = { ...value };
                if (event.target.checked) next[name] = 1;
                else delete next[name];
                onChange(next, true);
              }}
              className="accent-lichen"
            />
            <span className="truncate font-mono">{name}</span>
          </label>
          {name in value && (
            <NumberBox
              label={`${label} ${name}`}
              value={value[name] ?? 0}
              step={0.01}
              onChange={(next, done) => onChange({ ...value, [name]: next }, done)}
            />
          )}
        </div>
      ))}
    </fieldset>
  );
}
