import { ChevronDown } from "lucide-react";
import { Popover } from "radix-ui";
import { type DragEvent, useState } from "react";

import type { Item } from "@/api/client";
import { DRAGGED } from "@/wall/Tile";

interface Props {
  label: string;
  value: string | undefined;
  /** A port of planes takes a picture for its alpha, and says so; where a channel is meant, a picture is none. */
  kind: "plane" | "channel" | "picture" | "any";
  items: Item[];
  optional?: boolean;
  disabled?: boolean;
  /** The name above the field instead of before it. */
  stacked?: boolean;
  /** No name beside the field; it is only read out. */
  bare?: boolean;
  /** What stands in the field while nothing feeds it. */
  empty?: string;
  onChange: (address: string | undefined) => void;
}

const MOST = 300;

/** Every address of the items, as far as it fits the kind. */
function addresses(items: Item[], kind: Props["kind"]): string[] {
  const found: string[] = [];
  for (const item of items) {
    if (item.problem) continue;
    const stands = item.channels.includes("A") || item.channels.length === 1;
    if (item.plane || kind === "picture" || kind === "any" || (kind === "plane" && stands))
      found.push(item.name);
    if (item.plane) continue;
    const layers = new Set(
      item.channels.map((name) => name.split(".").slice(0, -1).join(".")).filter(Boolean),
    );
    if (kind === "picture" || kind === "any")
      found.push(...[...layers].map((layer) => `${item.name}.${layer}`));
    if (kind !== "picture") found.push(...item.channels.map((channel) => `${item.name}.${channel}`));
  }
  return found;
}

/** The channel that a port of planes takes of a picture, where that is not what is written there. */
function standsFor(items: Item[], kind: Props["kind"], address: string | undefined): string {
  const item = kind === "plane" ? items.find((entry) => entry.name === address && !entry.problem) : undefined;
  if (!item || item.plane) return "";
  return item.channels.length === 1 ? item.channels[0]! : item.channels.includes("A") ? "A" : "";
}

/** What a port is fed from: chosen from a list, or dropped on it from the wall. */
export function AddressField({
  label,
  value,
  kind,
  items,
  optional,
  disabled,
  stacked,
  bare,
  empty,
  onChange,
}: Props) {
  const [open, setOpen] = useState(false);
  const [filter, setFilter] = useState("");
  const [over, setOver] = useState(false);
  // The name that is read out holds what is seen, for those who speak to their screen.
  const taken = standsFor(items, kind, value);
  const shown = value
    ? taken
      ? `${value}, its ${taken}`
      : value
    : (empty ?? (optional ? "nothing" : "not fed"));
  const all = open ? addresses(items, kind) : [];
  const found = all.filter((address) => address.toLowerCase().includes(filter.trim().toLowerCase()));
  const take = (address: string | undefined) => {
    setOpen(false);
    setFilter("");
    onChange(address);
  };
  const drop = (event: DragEvent) => {
    const address = event.dataTransfer.getData(DRAGGED);
    setOver(false);
    if (!address || disabled) return;
    event.preventDefault();
    onChange(address);
  };
  return (
    <div
      className={
        bare
          ? "grid min-w-0"
          : stacked
            ? "flex flex-col gap-1"
            : "grid grid-cols-[84px_1fr] items-center gap-2"
      }
    >
      {!bare && <span className="truncate text-[12px] text-dim">{label}</span>}
      <Popover.Root open={open} onOpenChange={setOpen}>
        <Popover.Trigger
          disabled={disabled}
          aria-label={value || (optional && !empty) ? `${label} is fed from ${shown}` : `${label}: ${shown}`}
          onDragOver={(event) => {
            if (!event.dataTransfer.types.includes(DRAGGED)) return;
            event.preventDefault();
            setOver(true);
          }}
          onDragLeave={() => setOver(false)}
          onDrop={drop}
          className={`flex h-6 min-w-0 items-center justify-between gap-1 rounded-sm border px-2 font-mono text-[12px] ${over ? "border-lichen" : "border-line hover:border-faint"} ${value ? "text-text" : "text-faint"}`}
        >
          <span className="truncate">{shown}</span>
          <ChevronDown size={12} className="shrink-0 text-dim" />
        </Popover.Trigger>
        <Popover.Portal>
          <Popover.Content
            align="end"
            sideOffset={4}
            collisionPadding={8}
            className="z-50 w-64 rounded-sm border border-line bg-raised p-1 shadow-xl"
          >
            <input
              autoFocus
              aria-label={`Find an address for ${label}`}
              placeholder="Part of a name"
              value={filter}
              onChange={(event) => setFilter(event.target.value)}
              onKeyDown={(event) => {
                event.stopPropagation();
                if (event.key === "Enter" && found[0]) take(found[0]);
              }}
              className="mb-1 h-6 w-full rounded-sm border border-line bg-panel px-2 text-[12px] placeholder:text-faint"
            />
            <ul className="max-h-64 overflow-y-auto" aria-label="Addresses">
              {optional && value && (
                <li>
                  <button
                    className="w-full rounded-sm px-2 py-1 text-left text-[12px] text-dim hover:bg-line"
                    onClick={() => take(undefined)}
                  >
                    Feed nothing
                  </button>
                </li>
              )}
              {found.slice(0, MOST).map((address) => (
                <li key={address}>
                  <button
                    className={`w-full truncate rounded-sm px-2 py-0.5 text-left font-mono text-[12px] hover:bg-line ${address === value ? "text-lichen" : "text-text"}`}
                    onClick={() => take(address)}
                  >
                    {address}
                    {standsFor(items, kind, address) && (
                      <span className="text-faint"> its {standsFor(items, kind, address)}</span>
                    )}
                  </button>
                </li>
              ))}
              {found.length > MOST && (
                <li className="px-2 py-1 text-[12px] text-faint">
                  {found.length - MOST} more; type a part of the name
                </li>
              )}
              {found.length === 0 && (
                <li className="px-2 py-1 text-[12px] text-dim">Nothing above this step fits.</li>
              )}
            </ul>
          </Popover.Content>
        </Popover.Portal>
      </Popover.Root>
    </div>
  );
}
