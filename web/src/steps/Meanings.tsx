import { Button } from "@/parts/Button";

export interface Meaning {
  meaning: string;
  inverted?: boolean;
}

interface Props {
  value: Record<string, Meaning>;
  onChange: (value: Record<string, Meaning>) => void;
}

const PORTS = ["r", "g", "b", "a"];

/** What each channel of a packed texture stands for; `1 - v` where it holds the opposite. */
export function Meanings({ value, onChange }: Props) {
  const put = (port: string, meaning: string) => {
    const rest = Object.fromEntries(Object.entries(value).filter(([key]) => key !== port));
    onChange(meaning ? { ...rest, [port]: { ...value[port], meaning } } : rest);
  };
  return (
    <fieldset className="space-y-1">
      <legend className="mb-1 text-[12px] text-dim">What the channels stand for</legend>
      {PORTS.map((port) => (
        <div key={port} className="grid grid-cols-[16px_1fr_auto] items-center gap-2">
          <span className="font-mono text-dim">{port.toUpperCase()}</span>
          <input
            key={`meaning ${value[port]?.meaning ?? ""}`}
            aria-label={`Meaning of ${port.toUpperCase()}`}
            defaultValue={value[port]?.meaning ?? ""}
            placeholder="not said"
            onKeyDown={(event) => event.stopPropagation()}
            onBlur={(event) =>
              event.target.value.trim() !== (value[port]?.meaning ?? "") &&
              put(port, event.target.value.trim())
            }
            className="h-6 min-w-0 rounded-sm border border-line bg-well px-2 font-mono text-[12px] placeholder:text-faint"
          />
          <Button
            lit={Boolean(value[port]?.inverted)}
            disabled={!value[port]}
            onClick={() =>
              value[port] &&
              onChange({ ...value, [port]: { ...value[port], inverted: !value[port].inverted } })
            }
          >
            1 − v
          </Button>
        </div>
      ))}
    </fieldset>
  );
}
