import { Choose } from "@/parts/Choose";
import { Button } from "@/parts/Button";
import { NumberBox } from "@/parts/NumberBox";
import { Tip } from "@/parts/Tip";

import { BACKDROPS, type Backdrop, MATTE_VIEWS, type MatteView, type Panes, useView } from "./viewState";

const NAMES: Record<Panes, string> = {
  one: "One",
  two: "Two",
  split: "Split",
  blink: "Blink",
  difference: "Difference",
  four: "Four",
};

const needsPin = (panes: Panes) => ["split", "blink", "difference"].includes(panes);

const PROBES = ["1", "3", "5", "9", "17"];

interface Props {
  zoom: number;
  /** Whether one of R, G and B is shown alone. */
  lone: boolean;
  items: string[];
  /** What the item is compared with where nothing is pinned. */
  against?: string | undefined;
  onPin: () => void;
}

/** Under the stage: panes, pin, backdrop, matte view, exposure, zoom. */
export function StageBar({ zoom, lone, items, against, onPin }: Props) {
  const view = useView();
  const other = view.pin ? "the pin" : against;
  const inside = (value: Panes): value is "split" | "blink" =>
    view.panes === "four" && (value === "split" || value === "blink");
  const panes = (value: Panes, label: string, keys?: string) => (
    <Tip text={label} keys={keys}>
      <Button
        lit={view.panes === value || (inside(value) && view.pin !== null && view.within === value)}
        disabled={needsPin(value) && !view.pin && !against}
        onClick={() =>
          view.change(inside(value) ? { within: value } : { panes: view.panes === value ? "one" : value })
        }
      >
        {NAMES[value]}
      </Button>
    </Tip>
  );
  const backdrops = [
    ...BACKDROPS.map((name) => ({ value: name as string, label: name === "own" ? "own colour" : name })),
    ...items.map((item) => ({ value: `item:${item}`, label: item })),
  ];
  return (
    <div className="flex min-h-9 shrink-0 flex-wrap items-center gap-x-1.5 gap-y-1 border-t border-line bg-panel px-2 py-1 text-[12px]">
      {panes("two", "Two panes")}
      {panes("four", "Over black, white, grey and an own backdrop; a pin is beyond the split line")}
      {panes("split", other ? `Split against ${other}` : "Pin a view first (P)", "H")}
      {panes("blink", other ? `The view and ${other} in turns` : "Pin a view first (P)", "J")}
      {panes("difference", other ? `Difference from ${other}` : "Pin a view first (P)", "D")}
      <Tip text={view.pin ? `Pinned: ${view.pin.address}` : "Keep this view to compare"} keys="P">
        <Button lit={view.pin !== null} onClick={onPin}>
          Pin
        </Button>
      </Tip>
      <span className="h-4 w-px bg-line" />
      {lone ? (
        <Choose
          label="Lone channel"
          value={view.inColour ? "own" : "grey"}
          options={[
            { value: "grey", label: "in grey" },
            { value: "own", label: "in its colour" },
          ]}
          onChange={(value) => view.change({ inColour: value === "own" })}
        />
      ) : (
        <Choose
          label="Backdrop"
          value={view.backdrop}
          options={backdrops}
          onChange={(value) => view.change({ backdrop: value as Backdrop })}
          className="max-w-28"
        />
      )}
      {!lone && view.backdrop === "own" && (
        <input
          type="color"
          aria-label="Own backdrop colour"
          value={view.own}
          onChange={(event) => view.change({ own: event.target.value })}
          className="h-5 w-7 cursor-pointer border border-line bg-transparent"
        />
      )}
      <Choose
        label="Matte view"
        value={view.matte}
        options={MATTE_VIEWS.map((name) => ({
          value: name as string,
          label: name === "off" ? "matte off" : name,
        }))}
        onChange={(value) => view.change({ matte: value as MatteView })}
        className="w-22"
      />
      <NumberBox
        label="Exposure"
        unit="EV"
        value={view.exposure}
        step={0.1}
        min={-12}
        max={12}
        onChange={(exposure) => view.change({ exposure })}
      />
      <span className="grow" />
      <Choose
        label="Probe square"
        title="The square that the probe under the pointer means; off puts it away (I)"
        value={view.probing ? String(view.probeSize) : "off"}
        options={[...PROBES.map((size) => ({ value: size, label: `${size}×${size}` })), "off"]}
        onChange={(value) =>
          view.change(value === "off" ? { probing: false } : { probing: true, probeSize: Number(value) })
        }
        className="font-mono"
      />
      <Tip text="Fit, or one to one" keys="Z">
        <button
          className="ml-auto w-16 shrink-0 whitespace-nowrap text-right font-mono text-dim hover:text-text"
          onClick={() => view.change(view.zoom === 0 ? { zoom: 1, centre: null } : { zoom: 0, centre: null })}
        >
          {view.zoom === 0 ? "fit " : ""}
          {Math.round(zoom * 100)} %
        </button>
      </Tip>
    </div>
  );
}
