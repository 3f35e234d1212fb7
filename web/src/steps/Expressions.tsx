import { Plus, X } from "lucide-react";
import { useEffect, useState } from "react";

import { Button } from "@/parts/Button";

interface Props {
  value: Record<string, string>;
  onChange: (value: Record<string, string>) => void;
}

/** A formula for each channel of the result, taken over on Enter or when the field is left. */
export function Expressions({ value, onChange }: Props) {
  const [fresh, writeFresh] = useState("");
  const names = Object.keys(value);
  const free = fresh.trim() || ["R", "G", "B", "A"].find((name) => !names.includes(name)) || "mask";
  return (
    <div className="space-y-2">
      {names.map((name) => (
        <Expression
          key={name}
          name={name}
          text={value[name]!}
          onChange={(text) => onChange({ ...value, [name]: text })}
          onRemove={
            names.length > 1
              ? () => onChange(Object.fromEntries(Object.entries(value).filter(([other]) => other !== name)))
              : undefined
          }
        />
      ))}
      <div className="flex items-center gap-2">
        <input
          aria-label="Name of a further channel"
          placeholder={free}
          value={fresh}
          onChange={(event) => writeFresh(event.target.value)}
          onKeyDown={(event) => event.stopPropagation()}
          className="h-6 w-20 rounded-sm border border-line bg-well px-2 font-mono text-[12px] placeholder:text-faint"
        />
        <Button
          disabled={names.includes(free)}
          onClick={() => {
            onChange({ ...value, [free]: "0" });
            writeFresh("");
          }}
        >
          <Plus size={12} /> Channel
        </Button>
      </div>
      <p className="text-[11px] leading-snug text-faint">
        Names: a port and its channel (a.r), x, y, width, height, frame. Functions: abs min max clamp mix step
        smoothstep sqrt exp log sin cos pow.
      </p>
    </div>
  );
}

function Expression({
  name,
  text,
  onChange,
  onRemove,
}: {
  name: string;
  text: string;
  onChange: (text: string) => void;
  onRemove: (() => void) | undefined;
}) {
  const [typed, setTyped] = useState(text);
  useEffect(() => {
    setTyped(text);
  }, [text]);
  const commit = () => typed.trim() && typed !== text && onChange(typed);
  return (
    <div>
      <div className="flex items-center justify-between">
        <span className="font-mono text-[12px] text-dim">{name} =</span>
        {onRemove && (
          <Button quiet className="h-5! px-1!" aria-label={`Take out channel ${name}`} onClick={onRemove}>
            <X size={12} />
          </Button>
        )}
      </div>
      <textarea
        aria-label={`Formula for ${name}`}
        spellCheck={false}
        rows={Math.min(6, Math.max(1, Math.ceil(typed.length / 40)))}
        value={typed}
        onChange={(event) => setTyped(event.target.value)}
        onBlur={commit}
        onKeyDown={(event) => {
          event.stopPropagation();
          if (event.key === "Enter") {
            event.preventDefault();
            commit();
          }
          if (event.key === "Escape") setTyped(text);
        }}
        className="w-full resize-none rounded-sm border border-line bg-well px-2 py-1 font-mono text-[12px] leading-snug"
      />
    </div>
  );
}
