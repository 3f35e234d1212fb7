import { Plus, X } from "lucide-react";
import { useState } from "react";

import type { Item, OperationRow } from "@/api/client";
import type { Fed, Step } from "@/api/recipe";
import { Button } from "@/parts/Button";

import { AddressField } from "./AddressField";
import { wordsOf } from "./schema";

type Kind = "plane" | "picture" | "any";

interface Props {
  operation: OperationRow;
  step: Step;
  items: Item[];
  writable: boolean;
  onChange: (port: string, feed: Fed | undefined) => void;
}

/** What a step is fed from: its ports, the lists among them, and ports that it names itself. */
export function Ports({ operation, step, items, writable, onChange }: Props) {
  const own = operation.ports.map((port) => port.name);
  const named = operation.free_ports ? Object.keys(step.in ?? {}).filter((name) => !own.includes(name)) : [];
  return (
    <div className="space-y-1.5">
      {operation.ports.map((port) =>
        port.many ? (
          <ListPort
            key={port.name}
            label={wordsOf(port.name)}
            value={[step.in?.[port.name] ?? []].flat()}
            kind={port.kind as Kind}
            items={items}
            writable={writable}
            onChange={(feed) => onChange(port.name, feed)}
          />
        ) : (
          <AddressField
            key={port.name}
            label={wordsOf(port.name)}
            value={[step.in?.[port.name]].flat()[0]}
            kind={port.kind as Kind}
            items={items}
            optional={!port.required}
            disabled={!writable}
            onChange={(address) => onChange(port.name, address)}
          />
        ),
      )}
      {named.map((name) => (
        <AddressField
          key={name}
          label={name}
          value={[step.in?.[name]].flat()[0]}
          kind={operation.free_ports as Kind}
          items={items}
          optional
          disabled={!writable}
          onChange={(address) => onChange(name, address)}
        />
      ))}
      {operation.free_ports && writable && (
        <NewPort
          taken={named}
          onAdd={(name) => {
            const first = items.at(-1)?.name;
            if (first) onChange(name, first);
          }}
        />
      )}
    </div>
  );
}

function ListPort({
  label,
  value,
  kind,
  items,
  writable,
  onChange,
}: {
  label: string;
  value: string[];
  kind: Kind;
  items: Item[];
  writable: boolean;
  onChange: (feed: string[]) => void;
}) {
  return (
    <div className="space-y-1">
      {value.map((address, index) => (
        <div key={index} className="grid grid-cols-[1fr_auto] items-center gap-1">
          <AddressField
            label={`${label} ${index + 1}`}
            value={address}
            kind={kind}
            items={items}
            disabled={!writable}
            onChange={(next) => next && onChange(value.map((old, at) => (at === index ? next : old)))}
          />
          <Button
            quiet
            className="px-1!"
            aria-label={`Take out ${label} ${index + 1}`}
            disabled={value.length < 2}
            onClick={() => onChange(value.filter((_, at) => at !== index))}
          >
            <X size={12} />
          </Button>
        </div>
      ))}
      {writable && (
        <AddressField
          label={value.length ? "One more" : label}
          value={undefined}
          kind={kind}
          items={items}
          onChange={(next) => next && onChange([...value, next])}
        />
      )}
    </div>
  );
}

function NewPort({ taken, onAdd }: { taken: string[]; onAdd: (name: string) => void }) {
  const [name, setName] = useState("");
  const sound = /^[a-z_][a-z0-9_]*$/.test(name) && !taken.includes(name);
  const free = [..."abcdefgh"].find((letter) => !taken.includes(letter)) ?? "more";
  const add = () => {
    onAdd(sound ? name : free);
    setName("");
  };
  return (
    <div className="flex items-center gap-2 pl-[92px]">
      <input
        aria-label="Name of a further port"
        placeholder={free}
        value={name}
        onChange={(event) => setName(event.target.value)}
        onKeyDown={(event) => {
          event.stopPropagation();
          if (event.key === "Enter" && (sound || !name)) add();
        }}
        className="h-6 w-16 rounded-sm border border-line bg-well px-2 font-mono text-[12px] placeholder:text-faint"
      />
      <Button disabled={name !== "" && !sound} onClick={add}>
        <Plus size={12} /> Port
      </Button>
    </div>
  );
}
