import type { Item } from "@/api/client";
import { Button } from "@/parts/Button";
import { Tip } from "@/parts/Tip";
import { BRUSH, type Scope, type Tool, useTools } from "@/stage/tools";

import { BrushFields } from "./BrushFields";

interface Props {
  known: Item | undefined;
  /** The step in focus is told by strokes what is subject. */
  told: boolean;
  onAddAlpha: () => void;
}

const SCOPES: Scope[] = ["all", "colour", "alpha"];

/** What works by hand on the stage: touch-up, shapes, what a whole matte is told; and the brush. */
export function Tools({ known, told, onAddAlpha }: Props) {
  const { tool, brush, change, paint } = useTools();
  const choose = (next: Tool) => change({ tool: tool === next ? "none" : next });
  const picture = known && !known.plane;
  const noAlpha =
    picture && brush.scope === "alpha" && !known.channels.some((name) => name.split(".").pop() === "A");
  return (
    <section aria-label="Tools" className="shrink-0 space-y-2 border-b border-line px-3 py-2 text-[12px]">
      <div className="flex items-center gap-1.5">
        <span className="mr-auto text-dim">By hand</span>
        <Tip text="Paint on the stage; hold for the brush's settings" keys="T">
          <Button lit={tool === "touch"} onClick={() => choose("touch")}>
            Touch up
          </Button>
        </Tip>
        <Tip text="Draw closed curves on the stage">
          <Button lit={tool === "shape"} onClick={() => choose("shape")}>
            Draw shapes
          </Button>
        </Tip>
      </div>
      {told && (
        <div className="flex items-center gap-1.5">
          <span className="mr-auto text-dim">Tell the matte</span>
          <Tip text="Paint over what is surely subject">
            <Button lit={tool === "keep"} onClick={() => choose("keep")}>
              Keep
            </Button>
          </Tip>
          <Tip text="Paint over what surely is not">
            <Button lit={tool === "drop"} onClick={() => choose("drop")}>
              Drop
            </Button>
          </Tip>
        </div>
      )}
      {(tool === "keep" || tool === "drop") && (
        <p className="leading-snug text-faint">
          Drag over what is surely {tool === "keep" ? "subject" : "not subject"}; what lies beside it learns
          from it. Alt + click takes a stroke away, - and = change the radius.
        </p>
      )}
      {tool === "touch" && (
        <div className="space-y-1.5">
          <BrushFields settings={brush} most={2000} initial={BRUSH} onChange={paint} />
          {picture && (
            <div className="grid grid-cols-[84px_1fr] items-center gap-2">
              <span className="text-dim">Works on</span>
              <div role="group" aria-label="Works on" className="flex gap-1">
                {SCOPES.map((scope) => (
                  <Button key={scope} lit={brush.scope === scope} onClick={() => paint({ scope })}>
                    {scope}
                  </Button>
                ))}
              </div>
            </div>
          )}
          {noAlpha ? (
            <div
              role="alert"
              className="flex items-center justify-between gap-2 border-l-2 border-clay pl-2 text-clay"
            >
              <span>{known.name} has no alpha: it is opaque everywhere.</span>
              <Button onClick={onAddAlpha}>Add an alpha</Button>
            </div>
          ) : (
            <p className="leading-snug text-faint">
              Drag to paint, Alt + click takes a stroke away, - and = change the radius.
            </p>
          )}
        </div>
      )}
      {tool === "shape" && (
        <p className="leading-snug text-faint">
          Click to set points, drag for curves, click the first point or press Enter to close. Drag points,
          curves or the whole; Alt + click starts a curve inside another, Ctrl + drag bends a point, a double
          click on the line adds one, Delete takes away.
        </p>
      )}
    </section>
  );
}
