import { Button } from "@/parts/Button";

import { OwnCard } from "./OwnCard";
import type { Layout } from "./packs";
import { ValueBoxes } from "./ValueBoxes";
import { KNOWN, worded } from "./words";

interface Props {
  layout: Layout;
  onChange: (next: Layout) => void;
  onRemove: () => void;
}

/** One layout of the project: what each channel stands for, and what it holds where nothing is laid in. */
export function OwnLayout({ layout, onChange, onRemove }: Props) {
  const put = (index: number, change: Partial<Layout["channels"][number]>) =>
    onChange({
      ...layout,
      channels: layout.channels.map((each, at) => (at === index ? { ...each, ...change } : each)),
    });
  const four = layout.channels.length === 4;
  return (
    <OwnCard
      kind="layout"
      title={layout.title}
      onRename={(title) => onChange({ ...layout, title })}
      onRemove={onRemove}
    >
      {layout.channels.map((channel, index) => (
        <div key={channel.port} className="flex items-center gap-2">
          <span className="w-3 font-mono">{channel.port.toUpperCase()}</span>
          <input
            aria-label={`Meaning of ${channel.port.toUpperCase()} in ${layout.title}`}
            list="meanings"
            defaultValue={channel.meaning}
            onBlur={(event) => put(index, { meaning: worded(event.target.value) || channel.meaning })}
            className="h-6 w-32 rounded-sm border border-line bg-well px-2 font-mono"
          />
          <Button lit={channel.inverted} onClick={() => put(index, { inverted: !channel.inverted })}>
            1 − v
          </Button>
          <span className="grow text-right text-faint">default</span>
          <ValueBoxes
            label={`Default of ${channel.port.toUpperCase()} in ${layout.title}`}
            value={channel.default ?? 0}
            onChange={(to) => put(index, { default: to })}
          />
        </div>
      ))}
      <datalist id="meanings">
        {KNOWN.map((name) => (
          <option key={name} value={name} />
        ))}
      </datalist>
      <Button
        lit={four}
        onClick={() =>
          onChange({
            ...layout,
            channels: four
              ? layout.channels.slice(0, 3)
              : [...layout.channels, { port: "a", meaning: "mask", inverted: false, default: 1 }],
          })
        }
      >
        with alpha
      </Button>
    </OwnCard>
  );
}
