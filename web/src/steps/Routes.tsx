import { Trash2 } from "lucide-react";
import { useState } from "react";

import type { Item } from "@/api/client";
import { Button } from "@/parts/Button";
import { NumberBox } from "@/parts/NumberBox";

import { AddressField } from "./AddressField";

interface RoutedChannel {
  from?: string;
  value?: number;
  invert?: boolean;
}

interface Props {
  value: Record<string, RoutedChannel>;
  items: Item[];
  onChange: (value: Record<string, RoutedChannel>) => void;
}

const firstChannel = (item: Item) => (item.plane ? item.name : `${item.name}.${item.channels[0]}`);

/** Which address, or which number, makes each channel of the result. */
export function Routes({ value, items, onChange }: Props) {
  const [name, setName] = useState("");
  const put = (channel: string, feed: RoutedChannel) => onChange({ ...value, [channel]: feed });
  const drop = (channel: string) =>
    onChange(Object.fromEntries(Object.entries(value).filter(([key]) => key !== channel)));
  const first = items.find((item) => !item.problem);
  const add = () => {
    const channel = name.trim();
    if (!channel || !first) return;
    put(channel, { from: firstChannel(first) });
    setName("");
  };
  return (
    <fieldset className="space-y-2">
      <legend className="mb-1 text-[12px] text-dim">Channels of the result</legend>
      {Object.entries(value).map(([channel, feed]) => (
        <div key={channel} className="space-y-1">
          <div className="flex items-center gap-1">
            <div className="min-w-0 grow">
              {feed.from !== undefined ? (
                <AddressField
                  label={channel}
                  kind="plane"
                  value={feed.from}
                  items={items}
                  onChange={(from) => from && put(channel, { ...feed, from })}
                />
              ) : (
                <div className="grid grid-cols-[84px_1fr] items-center gap-2 text-[12px]">
                  <span className="truncate text-dim">{channel}</span>
                  <NumberBox
                    label={`${channel} value`}
                    value={feed.value ?? 0}
                    onChange={(next, done) => done && put(channel, { value: next, invert: feed.invert })}
                  />
                </div>
              )}
            </div>
            <button
              aria-label={`Remove ${channel}`}
              className="text-faint hover:text-ember"
              onClick={() => drop(channel)}
            >
              <Trash2 size={13} />
            </button>
          </div>
          <div className="flex justify-end gap-1">
            <Button
              lit={feed.from === undefined}
              onClick={() =>
                put(channel, feed.from === undefined && first ? { from: firstChannel(first) } : { value: 0 })
              }
            >
              number
            </Button>
            <Button lit={feed.invert} onClick={() => put(channel, { ...feed, invert: !feed.invert })}>
              turned round
            </Button>
          </div>
        </div>
      ))}
      <div className="flex gap-1">
        <input
          aria-label="Name of a new channel"
          placeholder="New channel, such as mask"
          value={name}
          onChange={(event) => setName(event.target.value)}
          onKeyDown={(event) => {
            event.stopPropagation();
            if (event.key === "Enter") add();
          }}
          className="h-6 min-w-0 grow rounded-sm border border-line bg-well px-2 text-[12px] placeholder:text-dim"
        />
        <Button onClick={add}>Add</Button>
      </div>
    </fieldset>
  );
}
