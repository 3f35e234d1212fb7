import { SlideField } from "@/parts/SlideField";

/** What a brush and a stroke of it have in common. */
export interface BrushSettings {
  value: number;
  radius: number;
  hardness: number;
  opacity: number;
}

interface Props {
  settings: BrushSettings;
  /** Largest radius that can be typed. */
  most: number;
  /** What a double click on a name brings back. */
  initial?: BrushSettings;
  onChange: (change: Partial<BrushSettings>, done: boolean) => void;
}

const FIELDS = [
  { key: "value", label: "Value", low: 0, high: 1, step: 0.01 },
  { key: "radius", label: "Radius", low: 0.5, high: 200, min: 0.5, step: 0.5, unit: "px" },
  { key: "hardness", label: "Hardness", low: 0, high: 1, min: 0, max: 1, step: 0.01 },
  { key: "opacity", label: "Opacity", low: 0, high: 1, min: 0, max: 1, step: 0.01 },
] as const;

/** The four sliders of a brush, or of a stroke that was painted with it. */
export function BrushFields({ settings, most, initial, onChange }: Props) {
  return FIELDS.map(({ key, ...field }) => (
    <SlideField
      key={key}
      {...field}
      {...(key === "radius" ? { max: most } : {})}
      value={settings[key]}
      {...(initial ? { initial: initial[key] } : {})}
      onChange={(next, done) => onChange({ [key]: next }, done)}
    />
  ));
}
