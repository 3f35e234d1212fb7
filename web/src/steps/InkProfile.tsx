import type { Item } from "@/api/client";
import { Choose } from "@/parts/Choose";

import { Line } from "./Line";

/** The simple way, or the profile that a source carries. */
export type Inks = "simple" | { from: string };

/** Stands for no source: no item can have such a name. */
const SIMPLE = "·";

interface Props {
  label: string;
  title?: string;
  value: Inks;
  /** Items above the step. */
  items: Item[];
  onChange: (value: Inks) => void;
}

/** How colour becomes ink: simple, or by the ICC profile of one of the sources. */
export function InkProfile({ label, title, value, items, onChange }: Props) {
  const chosen = value === "simple" ? "" : value.from;
  const sources = items.filter((item) => item.inks && item.inputs.length === 0);
  const named = items.find((item) => item.name === chosen)?.inks;
  const names = new Set([...sources.map((item) => item.name), ...(chosen ? [chosen] : [])]);
  return (
    <div className="space-y-1">
      <Line label={label} title={title}>
        <Choose
          label={label}
          value={chosen || SIMPLE}
          options={[{ value: SIMPLE, label: "simple" }, ...names]}
          onChange={(name) => onChange(name === SIMPLE ? "simple" : { from: name })}
          className="w-36"
        />
      </Line>
      <p className="pl-[92px] leading-snug text-dim">
        {chosen
          ? (named ?? `${chosen} carries no ink profile`)
          : sources.length > 0
            ? "black takes over all grey"
            : "black takes over all grey; for a press, import its CMYK profile (.icc) or a picture that carries one"}
      </p>
    </div>
  );
}
