import { ChevronDown, ChevronUp, Trash2 } from "lucide-react";
import type { ReactNode } from "react";

import type { Item } from "@/api/client";
import { AddressField } from "@/steps/AddressField";
import { Button } from "@/parts/Button";
import { Choose } from "@/parts/Choose";
import { Menu } from "@/parts/Menu";
import { OwnNotch } from "@/time/Notch";

import type { BarProps } from "./BarRow";
import { ValueBoxes } from "./ValueBoxes";

/** Everything about a bar: what it is fed from, its mask, blend and opacity, its place, and copies of it. */
export function BarDetails({
  bay,
  bar,
  index,
  count,
  modes,
  items,
  others,
  label,
  onChange,
  onMove,
  onCopy,
  onRemove,
}: BarProps & { label: string }) {
  const opacity = bar.opacity ?? 1;
  return (
    <div className="space-y-1.5 bg-well px-2 py-2" role="group" aria-label={`${label}, everything`}>
      <div className="flex gap-1">
        <Button
          lit={bar.value !== undefined}
          onClick={() => onChange({ value: bar.value ?? 1, from: undefined })}
        >
          a value
        </Button>
        <Button
          lit={bar.from !== undefined}
          disabled={items.length === 0}
          onClick={() =>
            bar.from === undefined && onChange({ from: bar.mask ?? firstPlane(items), value: undefined })
          }
        >
          a channel
        </Button>
        <span className="grow" />
        <Button lit={bar.on !== false} onClick={() => onChange({ on: bar.on === false ? undefined : false })}>
          {bar.on === false ? "off" : "on"}
        </Button>
      </div>
      {bar.from !== undefined && (
        <AddressField
          label="Channel"
          kind="plane"
          value={bar.from}
          items={items}
          onChange={(from) => from && onChange({ from })}
        />
      )}
      <AddressField
        label="Mask"
        kind="plane"
        value={bar.mask}
        items={items}
        optional
        empty="covers all"
        onChange={(mask) => onChange({ mask, ...(mask ? {} : { invert_mask: undefined }) })}
      />
      <div className="flex items-center gap-1">
        <Choose
          label={`${label}: blend`}
          value={bar.mode ?? "normal"}
          options={modes}
          onChange={(mode) => onChange({ mode: mode === "normal" ? undefined : mode })}
          className="w-28"
        />
        {bar.mask && (
          <Button
            lit={Boolean(bar.invert_mask)}
            onClick={() => onChange({ invert_mask: bar.invert_mask ? undefined : true })}
          >
            outside of it
          </Button>
        )}
      </div>
      <div className="group/moving flex items-center text-dim" data-setting>
        <OwnNotch step={bay} place={["layers", index, "opacity"]} label={`${label}, opacity`} initial={1} />
        <span className="grow">Opacity</span>
        <ValueBoxes
          label={`${label}: opacity`}
          value={opacity}
          onChange={(next, done) => onChange({ opacity: next }, done)}
        />
      </div>
      <div className="flex items-center gap-1">
        <Shift label={`${label}: up`} last={index === count - 1} onShift={() => onMove(index, index + 1)}>
          <ChevronUp size={12} />
        </Shift>
        <Shift label={`${label}: down`} last={index === 0} onShift={() => onMove(index, index - 1)}>
          <ChevronDown size={12} />
        </Shift>
        {others.length > 0 && (
          <Menu choices={others.map((other) => ({ label: other.label, onSelect: () => onCopy(other.name) }))}>
            <Button>Copy to…</Button>
          </Menu>
        )}
        <span className="grow" />
        <Button quiet aria-label={`${label}: remove`} onClick={onRemove}>
          <Trash2 size={12} />
        </Button>
      </div>
    </div>
  );
}

interface ShiftProps {
  label: string;
  /** Whether there is no place left to go to. */
  last: boolean;
  onShift: () => void;
  children: ReactNode;
}

/** One place up or down. At the end it does nothing but keeps the focus: a disabled button would swallow keys. */
function Shift({ label, last, onShift, children }: ShiftProps) {
  return (
    <Button
      aria-label={label}
      aria-disabled={last}
      className={last ? "opacity-40" : ""}
      onClick={() => !last && onShift()}
    >
      {children}
    </Button>
  );
}

function firstPlane(items: Item[]): string {
  const item = items.find((each) => !each.problem)!;
  return item.plane ? item.name : `${item.name}.${item.channels[0]}`;
}
