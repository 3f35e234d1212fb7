import { Check, ChevronDown } from "lucide-react";
import { Select } from "radix-ui";
import { useState } from "react";

interface Props {
  label: string;
  title?: string;
  value: string;
  options: readonly (string | { value: string; label: string })[];
  onChange: (value: string) => void;
  className?: string;
  disabled?: boolean;
}

/**
 * One of a list of words. Until somebody turns to it, it holds none but the chosen one: a page may have hundreds of
 * these, of hundreds of words each.
 */
export function Choose({ label, title, value, options, onChange, className = "", disabled }: Props) {
  const [turnedTo, setTurnedTo] = useState(false);
  const rows = options
    .map((option) => (typeof option === "string" ? { value: option, label: option } : option))
    .filter((row) => turnedTo || row.value === value);
  const turnTo = () => setTurnedTo(true);
  return (
    <Select.Root value={value} onValueChange={onChange} disabled={disabled}>
      <Select.Trigger
        onFocus={turnTo}
        onPointerDown={turnTo}
        aria-label={label}
        title={title ?? label}
        className={`inline-flex h-6 items-center justify-between gap-1 rounded-sm border border-line px-2 text-[12px] text-text hover:border-faint disabled:opacity-40 ${className}`}
      >
        <span className="truncate">
          <Select.Value />
        </span>
        <ChevronDown size={12} className="shrink-0 text-dim" />
      </Select.Trigger>
      <Select.Portal>
        <Select.Content
          position="popper"
          sideOffset={4}
          collisionPadding={8}
          className="z-50 max-h-80 overflow-hidden rounded-sm border border-line bg-raised shadow-xl"
        >
          <Select.Viewport className="p-1">
            {rows.map((row) => (
              <Select.Item
                key={row.value}
                value={row.value}
                className="flex cursor-default items-center justify-between gap-4 rounded-sm px-2 py-1 text-[12px] outline-none data-[highlighted]:bg-line"
              >
                <Select.ItemText>{row.label}</Select.ItemText>
                <Select.ItemIndicator>
                  <Check size={12} className="text-lichen" />
                </Select.ItemIndicator>
              </Select.Item>
            ))}
          </Select.Viewport>
        </Select.Content>
      </Select.Portal>
    </Select.Root>
  );
}
