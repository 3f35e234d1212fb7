import type { ReactNode } from "react";

import type { Recipe } from "@/api/recipe";

import type { Placement } from "./geometry";
import { Pane } from "./Pane";
import type { Backing } from "./painting";
import { useStrokesOver } from "./strokes/useStrokesOver";
import { type PaneContent, usePainted } from "./usePane";

type Drawn = PaneContent;

interface Props {
  item: string | null;
  recipe: Recipe;
  label: string;
  display: [number, number, number, number];
  placement: Placement;
  /** Its planes are fetched once and painted over each backdrop. */
  main: Drawn;
  /** Seen instead of the comp over grey. */
  fringe: Drawn | null;
  exposure: number;
  own: Backing;
  ownLabel: string;
  /** What it is compared with, over the same backdrops: beyond the split line, or in turns. */
  other: Drawn | null;
  compare: "split" | "blink";
  overlay: (placement: Placement) => ReactNode;
  onHover: (at: [number, number] | null) => void;
}

/** The same picture over black, white, grey and an own backdrop; zoom and pan are shared. */
export function FourPanes({ item, recipe, main, other, fringe, exposure, own, ownLabel, ...common }: Props) {
  const backdrops: { name: string; backing: Backing }[] = [
    { name: "over black", backing: { kind: "colour", rgb: [0, 0, 0] } },
    { name: "over white", backing: { kind: "colour", rgb: [1, 1, 1] } },
    { name: "over grey", backing: { kind: "colour", rgb: [0.5, 0.5, 0.5] } },
    { name: `over ${ownLabel}`, backing: own },
  ];
  return (
    <div className="grid grow grid-cols-2 grid-rows-2 gap-px">
      {backdrops.map(({ name, backing }, index) =>
        fringe && index === 2 ? (
          <Cell key={name} {...common} name="fringe" caption="fringe" drawn={fringe} other={null} />
        ) : (
          <Over
            key={index}
            {...common}
            item={item}
            recipe={recipe}
            name={index ? `four-${index}` : "main"}
            caption={name}
            main={main}
            other={other}
            exposure={exposure}
            backing={backing}
          />
        ),
      )}
    </div>
  );
}

type Common = Pick<Props, "label" | "display" | "placement" | "compare" | "overlay" | "onHover">;

interface OverProps extends Common {
  item: string | null;
  recipe: Recipe;
  name: string;
  caption: string;
  main: Drawn;
  other: Drawn | null;
  exposure: number;
  backing: Backing;
}

function Over({ item, recipe, main, other, exposure, backing, ...common }: OverProps) {
  return (
    <Cell
      {...common}
      drawn={useStrokesOver(useOver(main, exposure, backing), item, recipe, { exposure, backing })}
      other={useOver(other ?? NOTHING, exposure, backing, other !== null)}
    />
  );
}

const NOTHING: Drawn = {
  shown: null,
  backing: { kind: "none" },
  over: null,
  kind: undefined,
  problem: null,
  late: false,
  planes: null,
  waiting: [],
};

/** A pane's planes painted over another backdrop. */
function useOver(drawn: Drawn, exposure: number, backing: Backing, wanted = true): Drawn {
  const look = { exposure, backing };
  const key = backing.kind === "planes" ? backing.planes : JSON.stringify(backing);
  const { shown } = usePainted(wanted ? drawn.planes : null, (planes) => ({ kind: "paint", planes, look }), [
    exposure,
    key,
  ]);
  return { ...drawn, shown, over: null, kind: undefined };
}

interface CellProps extends Common {
  name: string;
  caption: string;
  drawn: Drawn;
  other: Drawn | null;
}

function Cell({
  name,
  caption,
  label,
  display,
  placement,
  drawn,
  other,
  compare,
  overlay,
  onHover,
}: CellProps) {
  return (
    <div className="relative flex min-h-0 min-w-0">
      <Pane
        name={name}
        label={name === "main" ? `${label} · ${caption}` : caption}
        display={display}
        placement={placement}
        main={drawn}
        other={other?.shown ? other : null}
        compare={compare}
        onHover={onHover}
      />
      {overlay(placement)}
    </div>
  );
}
