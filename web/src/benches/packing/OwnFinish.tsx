import { Trash2 } from "lucide-react";
import { useState } from "react";

import { Button } from "@/parts/Button";

import { OwnCard } from "./OwnCard";
import type { Finish } from "./packs";
import { ValueBoxes } from "./ValueBoxes";
import { worded } from "./words";

interface Props {
  finish: Finish;
  onChange: (next: Finish) => void;
  onRemove: () => void;
}

/** One finish of the project: its name, and a value for each meaning that it settles. */
export function OwnFinish({ finish, onChange, onRemove }: Props) {
  const [meaning, setMeaning] = useState("");
  const put = (name: string, value: number) =>
    onChange({ ...finish, values: { ...finish.values, [name]: value } });
  const next = worded(meaning);
  return (
    <OwnCard
      kind="finish"
      title={finish.title}
      onRename={(title) => onChange({ ...finish, title })}
      onRemove={onRemove}
    >
      {Object.entries(finish.values).map(([name, value]) => (
        <div key={name} className="flex items-center gap-2">
          <span className="grow">{name.replaceAll("_", " ")}</span>
          <ValueBoxes label={`${finish.title}, ${name}`} value={value} onChange={(to) => put(name, to)} />
          <Button
            quiet
            aria-label={`Leave ${name} as it is`}
            onClick={() =>
              onChange({
                ...finish,
                values: Object.fromEntries(Object.entries(finish.values).filter(([key]) => key !== name)),
              })
            }
          >
            <Trash2 size={12} />
          </Button>
        </div>
      ))}
      <div className="flex gap-1">
        <input
          aria-label={`A further meaning of ${finish.title}`}
          placeholder="occlusion, mask 1…"
          value={meaning}
          onChange={(event) => setMeaning(event.target.value)}
          className="h-6 w-40 rounded-sm border border-line bg-well px-2 placeholder:text-faint"
        />
        <Button
          disabled={!next || next in finish.values}
          onClick={() => {
            put(next, 0.5);
            setMeaning("");
          }}
        >
          Add
        </Button>
      </div>
    </OwnCard>
  );
}
