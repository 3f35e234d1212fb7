import { ChevronLeft, ChevronRight } from "lucide-react";

import { Button } from "@/parts/Button";
import { Choose } from "@/parts/Choose";

interface Props {
  modes: string[];
  mode: string;
  onChange: (mode: string) => void;
}

/** One mode after the other with a click or an arrow key, each seen at once on the stage. */
export function ModeStepper({ modes, mode, onChange }: Props) {
  const at = modes.indexOf(mode);
  const step = (turn: number) => onChange(modes[(at + turn + modes.length) % modes.length] ?? mode);
  return (
    <div
      className="flex items-center gap-1"
      onKeyDown={(event) => {
        if (event.key !== "ArrowLeft" && event.key !== "ArrowRight") return;
        event.preventDefault();
        event.stopPropagation();
        step(event.key === "ArrowRight" ? 1 : -1);
      }}
    >
      <Button aria-label="Mode before" onClick={() => step(-1)}>
        <ChevronLeft size={13} />
      </Button>
      <Choose label="Mode" value={mode} options={modes} onChange={onChange} className="grow" />
      <Button aria-label="Next mode" onClick={() => step(1)}>
        <ChevronRight size={13} />
      </Button>
      <span className="w-14 shrink-0 whitespace-nowrap text-right font-mono text-[11px] text-faint">
        {at + 1} of {modes.length}
      </span>
    </div>
  );
}
