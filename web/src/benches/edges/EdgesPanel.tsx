import { useEffect } from "react";

import type { BenchProps } from "@/steps/props";
import { StepPanel } from "@/steps/StepPanel";
import { useView } from "@/stage/viewState";

import { DiagnosisPanel } from "./DiagnosisPanel";
import { EdgeProfile } from "./EdgeProfile";
import { useEdgeLine } from "./line";

/** The Edges bench on the right: diagnosis, edge profile, and the chosen step below. */
export function EdgesPanel(props: BenchProps) {
  const { shot, recipe, items, item, writable, onPut } = props;
  const known = items.find((entry) => entry.name === item);
  const change = useView((state) => state.change);
  const open = useEdgeLine((state) => state.open);
  useEffect(() => {
    open(shot);
  }, [shot, open]);
  // The bench opens over four backdrops and leaves the stage as it was.
  useEffect(() => {
    const before = useView.getState().panes;
    if (before === "one") change({ panes: "four" });
    return () => change({ panes: before, fringe: null });
  }, [change]);
  const coloured = known?.channels.some((channel) => !known.data.includes(channel));
  const picture = known && !known.problem && !known.plane && coloured ? known : undefined;
  return (
    <aside
      aria-label="Bench"
      className="flex w-80 shrink-0 flex-col overflow-hidden border-l border-line bg-panel"
    >
      <DiagnosisPanel
        key={`of ${picture?.name ?? ""}`}
        shot={shot}
        recipe={recipe}
        items={items}
        picture={picture}
        writable={writable}
        onPut={onPut}
      />
      {picture && <EdgeProfile shot={shot} recipe={recipe} items={items} picture={picture} />}
      <StepPanel {...props} mattes={false} />
    </aside>
  );
}
