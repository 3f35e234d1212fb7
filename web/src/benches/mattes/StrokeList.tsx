import { Trash2 } from "lucide-react";

import { type Recipe, type Step } from "@/api/recipe";
import { Button } from "@/parts/Button";
import { useTools } from "@/stage/tools";

import { BrushFields } from "./BrushFields";
import { type Stroke, isTold, setStrokes, strokesOf } from "./strokes";

interface Props {
  step: Step;
  onRecipe: (change: (recipe: Recipe) => Recipe, done: boolean) => void;
}

/** The strokes of a touch-up, or what a whole matte was told, the last on top: chosen, changed, taken away. */
export function StrokeList({ step, onRecipe }: Props) {
  const { stroke: chosen, change } = useTools();
  const strokes = strokesOf(step);
  const put = (next: Stroke[], done = true) =>
    onRecipe((before) => setStrokes(before, step.name, next), done);
  const held = chosen === null ? undefined : strokes[chosen];
  if (strokes.length === 0)
    return isTold(step) ? null : <p className="text-dim">No stroke yet. Press T and paint on the stage.</p>;
  return (
    <div className="space-y-2">
      <ol aria-label="Strokes" className="max-h-40 overflow-y-auto">
        {strokes.map((_, offset) => {
          const index = strokes.length - 1 - offset;
          const stroke = strokes[index]!;
          const grey = Math.round(255 * (typeof stroke.value === "number" ? stroke.value : 1));
          return (
            <li key={index} className="group flex items-center gap-2">
              <button
                aria-pressed={chosen === index}
                onClick={() => change({ stroke: chosen === index ? null : index })}
                className={`flex min-w-0 grow items-center gap-2 rounded-sm px-1 py-0.5 text-left ${chosen === index ? "bg-raised text-lichen" : "text-dim hover:text-text"}`}
              >
                <span
                  aria-hidden
                  className="h-3 w-3 shrink-0 rounded-full border border-faint"
                  style={{ background: `rgb(${grey} ${grey} ${grey})` }}
                />
                <span className="truncate">
                  {isTold(step) ? (Number(stroke.value ?? 1) >= 0.5 ? "Keep" : "Drop") : "Stroke"} {index + 1}
                  {stroke.channels?.length ? ` on ${stroke.channels.join(" ")}` : ""}
                </span>
                <span className="ml-auto font-mono text-[11px] text-faint">{stroke.radius} px</span>
              </button>
              <Button
                quiet
                className="h-5! px-1!"
                aria-label={`Take away stroke ${index + 1}`}
                onClick={() => {
                  change({ stroke: null });
                  put(strokes.filter((_, other) => other !== index));
                }}
              >
                <Trash2 size={12} />
              </Button>
            </li>
          );
        })}
      </ol>
      {held && (
        <div className="space-y-1.5" role="group" aria-label={`Stroke ${chosen! + 1}`}>
          <BrushFields
            settings={{
              value: typeof held.value === "number" ? held.value : 1,
              radius: held.radius,
              hardness: held.hardness ?? 1,
              opacity: held.opacity ?? 1,
            }}
            most={10_000}
            onChange={(to, done) =>
              put(
                strokes.map((old, index) => (index === chosen ? { ...old, ...to } : old)),
                done,
              )
            }
          />
        </div>
      )}
    </div>
  );
}
