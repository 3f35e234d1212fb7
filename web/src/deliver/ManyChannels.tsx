import { X } from "lucide-react";

import type { Item } from "@/api/client";
import { Button } from "@/parts/Button";
import { AddressField } from "@/steps/AddressField";

import { channelsOf } from "./rendering";

interface Props {
  /** Channels of the file, by name, with what each is made of. */
  channels: [string, string][];
  items: Item[];
  onChange: (channels: [string, string][]) => void;
}

/** Several results as named channels of one file. */
export function ManyChannels({ channels, items, onChange }: Props) {
  const put = (index: number, entry: [string, string]) =>
    onChange(channels.map((own, at) => (at === index ? entry : own)));
  const twice = (name: string) => channels.filter(([other]) => other === name).length > 1;
  return (
    <fieldset className="space-y-1">
      <legend className="pb-1 text-[12px] text-dim">Channels of the file</legend>
      {channels.map(([name, address], index) => (
        <div key={index} className="grid grid-cols-[110px_1fr_20px] items-center gap-2">
          <input
            aria-label={`Name of channel ${index + 1}`}
            value={name}
            required
            aria-invalid={twice(name)}
            onChange={(event) => put(index, [event.target.value.trim(), address])}
            className={`h-6 min-w-0 rounded-sm border bg-raised px-1.5 text-[12px] text-text ${twice(name) ? "border-ember" : "border-line"}`}
          />
          <AddressField
            bare
            label={`Channel ${index + 1} from`}
            kind="channel"
            value={address}
            items={items}
            onChange={(next) => next && put(index, [name, next])}
          />
          <Button
            quiet
            aria-label={`Leave ${name} out`}
            className="px-0.5!"
            onClick={() => onChange(channels.filter((_, at) => at !== index))}
          >
            <X size={12} />
          </Button>
        </div>
      ))}
      <AddressField
        bare
        label="One channel more"
        empty="+ a channel, or a picture"
        kind="any"
        value={undefined}
        items={items}
        onChange={(next) => next && onChange([...channels, ...channelsOf(next, items, channels)])}
      />
    </fieldset>
  );
}
