import type { Backing } from "./painting";
import type { PaneAsk } from "./usePane";
import type { Backdrop } from "./viewState";

/** What a backdrop is painted as; `cell` is the step of the weave in picture pixels. */
export function backingOf(backdrop: Backdrop, own: string, cell: number): PaneAsk["backing"] {
  if (backdrop === "weave") return { kind: "weave", cell };
  if (backdrop.startsWith("item:")) return { kind: "item", address: backdrop.slice(5) };
  const rgb = (value: number): Backing => ({ kind: "colour", rgb: [value, value, value] });
  if (backdrop === "black") return rgb(0);
  if (backdrop === "white") return rgb(1);
  return { kind: "colour", rgb: rgbOf(own) };
}

/** Display values of a colour written as #rrggbb. */
export function rgbOf(hex: string): [number, number, number] {
  return [1, 3, 5].map((start) => parseInt(hex.slice(start, start + 2), 16) / 255) as [
    number,
    number,
    number,
  ];
}
