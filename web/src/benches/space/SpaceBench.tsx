import { findStep, portOf } from "@/api/recipe";
import { Stage } from "@/stage/Stage";
import type { BenchProps } from "@/steps/props";

import { Elevation } from "./Elevation";
import { depthOf, measureOf, positionOf, spaceOf } from "./space";
import { SpacePanel } from "./SpacePanel";
import { SpaceTools } from "./SpaceTools";
import { usePlumb } from "./usePlumb";
import { useSpace } from "./useSpace";

/** Stage, elevation and panel of the Space bench. */
export function SpaceBench({ operations, onTurnRound, ...common }: BenchProps) {
  const { shot, recipe, items, item, writable } = common;
  const spaces = useSpace(
    shot,
    recipe,
    items.some((entry) => entry.problem !== null),
  );
  const space = spaceOf(spaces ?? [], recipe, item);
  const step = item ? findStep(recipe, item) : undefined;
  const depth = depthOf(space, step, recipe);
  const plumb = usePlumb(shot, recipe, {
    depth,
    position: positionOf(space, step, recipe),
    ids: portOf(step, "ids") ?? space?.ids[0]?.address,
    outline: step?.op === "id_pick",
  });
  return (
    <>
      <div className="flex min-w-0 grow flex-col">
        <Stage
          shot={shot}
          recipe={recipe}
          items={items}
          item={item}
          writable={writable}
          over={(placement) => (
            <SpaceTools
              step={step}
              camera={space?.camera ?? null}
              placement={placement}
              writable={writable}
              under={plumb?.outline ?? []}
            />
          )}
        />
        <Elevation
          shot={shot}
          recipe={recipe}
          items={items}
          step={step}
          depth={depth}
          measure={measureOf(space, depth, recipe)}
          plumb={plumb}
          writable={writable}
        />
      </div>
      <SpacePanel
        {...common}
        operations={operations}
        onTurnRound={onTurnRound}
        spaces={spaces}
        space={space}
      />
    </>
  );
}
