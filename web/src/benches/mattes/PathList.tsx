import { Trash2 } from "lucide-react";

import { type Recipe, type Step, findStep } from "@/api/recipe";
import { Button } from "@/parts/Button";
import { NumberBox } from "@/parts/NumberBox";
import { SlideField } from "@/parts/SlideField";
import { useDraft } from "@/shot/draft";
import { useTools } from "@/stage/tools";
import { Follow } from "@/time/Follow";
import { Moving } from "@/time/Moving";
import { isKeyed, valueIn } from "@/time/keys";

import { type ShapePath, pointsOf, turned, withPoints } from "./paths";
import { pathsOf, setPaths } from "./useDrawing";

interface Props {
  shot: number;
  /** The picture that a curve is followed in. */
  picture: string | null;
  recipe: Recipe;
  step: Step;
  onRecipe: (change: (recipe: Recipe) => Recipe, done: boolean) => void;
}

function feathers(path: ShapePath): [number, number] {
  const feather = path.feather ?? 0;
  return Array.isArray(feather) ? feather : [feather, feather];
}

/** The curves of a shape: added or cut, with feather and opacity; the chosen points' own feather. */
export function PathList({ shot, picture, recipe, step, onRecipe }: Props) {
  const { path: chosen, points, ghosts, change } = useTools();
  const paths = pathsOf(recipe, step.name);
  const put = (next: ShapePath[], done = true) =>
    onRecipe((before) => setPaths(before, step.name, next), done);
  const raw = useDraft((state) => findStep(state.recipe, step.name));
  const moves = raw !== undefined && chosen !== null && isKeyed(valueIn(raw, ["paths", chosen, "points"]));
  const held = chosen === null ? undefined : paths[chosen];
  const alter = (to: Partial<ShapePath>, done: boolean) =>
    put(
      paths.map((old, index) => (index === chosen ? { ...old, ...to } : old)),
      done,
    );
  if (paths.length === 0)
    return <p className="text-dim">No curve yet. Choose “Draw shapes” above and click on the stage.</p>;
  const own = held && points.length ? pointsOf(held)[points[0]!] : undefined;
  return (
    <div className="space-y-2">
      <ol aria-label="Curves" className="max-h-32 overflow-y-auto">
        {paths.map((path, index) => (
          <li key={index} className="flex items-center gap-2">
            <button
              aria-pressed={chosen === index}
              onClick={() => change({ path: chosen === index ? null : index, points: [] })}
              className={`flex min-w-0 grow justify-between rounded-sm px-1 py-0.5 text-left ${chosen === index ? "bg-raised text-lichen" : "text-dim hover:text-text"}`}
            >
              <span className="truncate">{path.name || `Curve ${index + 1}`}</span>
              <span className="text-[11px] text-faint">
                {path.mode === "cut" ? "cut" : "add"}, {pointsOf(path).length} points
                {path.movement ? ", followed" : ""}
              </span>
            </button>
            <Button
              quiet
              className="h-5! px-1!"
              aria-label={`Take away curve ${index + 1}`}
              onClick={() => {
                change({ path: null, points: [] });
                put(paths.filter((_, other) => other !== index));
              }}
            >
              <Trash2 size={12} />
            </Button>
          </li>
        ))}
      </ol>
      {held && (
        <div className="space-y-1.5" role="group" aria-label={`Curve ${chosen! + 1}`}>
          <Moving step={raw} place={["paths", chosen!, "points"]} label="Points" initial={[]} writable>
            <p className="text-dim">
              Its points
              {moves
                ? " move: what is changed at another frame becomes a key there"
                : held.movement
                  ? " go where what it surrounds was followed to"
                  : " stand still"}
            </p>
          </Moving>
          <div className="grid grid-cols-[84px_1fr] items-center gap-2">
            <span className="text-dim" title="The chosen points, or all of them, about their middle">
              {points.length ? "Chosen" : "All"} points
            </span>
            <div className="flex items-center gap-1">
              <NumberBox
                label="Turn by"
                value={0}
                step={1}
                places={0}
                unit="°"
                onChange={(degrees, done) =>
                  done && alter(withPoints(held, turned(pointsOf(held), points, degrees, 1)), true)
                }
              />
              <NumberBox
                label="Times larger"
                value={1}
                step={0.01}
                min={0.01}
                max={100}
                unit="×"
                onChange={(size, done) =>
                  done && alter(withPoints(held, turned(pointsOf(held), points, 0, size)), true)
                }
              />
              {moves && (
                <Button
                  lit={ghosts}
                  title="The curve at the keys before and after, dashed"
                  onClick={() => change({ ghosts: !ghosts })}
                >
                  Ghosts
                </Button>
              )}
            </div>
          </div>
          <div className="grid grid-cols-[84px_1fr] items-center gap-2">
            <span className="text-dim">Does</span>
            <div role="group" aria-label="Does" className="flex gap-1">
              {(["add", "cut"] as const).map((mode) => (
                <Button key={mode} lit={(held.mode ?? "add") === mode} onClick={() => alter({ mode }, true)}>
                  {mode}
                </Button>
              ))}
            </div>
          </div>
          <Moving
            step={raw}
            place={["paths", chosen!, "opacity"]}
            label="Opacity of the curve"
            initial={1}
            writable
          >
            <SlideField
              label="Opacity"
              value={held.opacity ?? 1}
              low={0}
              high={1}
              min={0}
              max={1}
              step={0.01}
              initial={1}
              onChange={(opacity, done) => alter({ opacity }, done)}
            />
          </Moving>
          <Follow
            shot={shot}
            recipe={recipe}
            step={step.name}
            index={chosen!}
            path={held}
            picture={picture}
          />
          {(["in", "out"] as const).map((side, at) => (
            <SlideField
              key={side}
              label={`Feather ${side}`}
              value={feathers(held)[at]!}
              low={0}
              high={100}
              min={0}
              step={0.5}
              unit="px"
              initial={0}
              onChange={(next, done) => {
                const [inward, outward] = feathers(held);
                alter({ feather: at === 0 ? [next, outward] : [inward, next] }, done);
              }}
            />
          ))}
          {own && (
            <div className="grid grid-cols-[84px_1fr] items-center gap-2">
              <span className="truncate text-dim" title="Feather of the chosen points alone">
                Points’ own
              </span>
              <div className="flex items-center gap-2">
                {([0, 1] as const).map((side) => (
                  <NumberBox
                    key={side}
                    label={`Own feather ${side === 0 ? "in" : "out"}`}
                    value={own[6 + side] ?? feathers(held)[side]}
                    step={0.5}
                    min={0}
                    unit={side === 0 ? "in" : "out"}
                    onChange={(next, done) => {
                      const [a, b] = feathers(held);
                      const changed = pointsOf(held).map((point, index) => {
                        if (!points.includes(index)) return point;
                        const [x, y, ix = 0, iy = 0, ox = 0, oy = 0, fa = a, fb = b] = point;
                        return [x!, y!, ix, iy, ox, oy, side === 0 ? next : fa, side === 1 ? next : fb];
                      });
                      alter(withPoints(held, changed), done);
                    }}
                  />
                ))}
              </div>
            </div>
          )}
        </div>
      )}
    </div>
  );
}
