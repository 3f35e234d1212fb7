import { type Item, type Problem, problemOf } from "@/api/client";
import { type Recipe, type Step, changeStep, findStep } from "@/api/recipe";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";
import { Waiting } from "@/parts/Waiting";
import { useDraft } from "@/shot/draft";
import { pictureOf } from "@/stage/focus";
import { useView } from "@/stage/viewState";
import type { BenchProps } from "@/steps/props";
import { StepPanel } from "@/steps/StepPanel";
import { useEffect, useState } from "react";

import { Known } from "./Known";
import {
  KINDS,
  type Pickable,
  type SpaceRow,
  added,
  depthOf,
  pickablesOf,
  pickedAfter,
  positionOf,
} from "./space";
import { locate } from "./usePlumb";

interface Props extends BenchProps {
  spaces: SpaceRow[] | undefined;
  space: SpaceRow | undefined;
}

/** The Space bench on the right: what the render knows of its space, what can be made of it, and the chosen step. */
export function SpacePanel({ spaces, space, ...props }: Props) {
  const { shot, recipe, items, item, writable, onPut } = props;
  const step = item ? findStep(recipe, item) : undefined;
  const own = items.find((entry) => entry.name === item && !entry.problem && !entry.plane);
  const picture = own?.name ?? (item ? pictureOf(recipe, items, item) : null) ?? space?.source ?? "";
  const usable = space ? KINDS.filter((kind) => kind.needs(space, recipe)) : [];
  return (
    <aside
      aria-label="Bench"
      className="flex w-80 shrink-0 flex-col overflow-hidden border-l border-line bg-panel text-[12px]"
    >
      {/* Its room is there before it is known what there is: what comes late would push away what is being clicked. */}
      <div className="max-h-[46%] min-h-46 shrink-0 space-y-2 overflow-y-auto border-b border-line px-3 pb-3 pt-3">
        <h2 className="text-[13px] font-semibold">
          Space <span className="font-normal text-dim">{space ? `in ${space.source}` : ""}</span>
        </h2>
        {!spaces && <Waiting text="Looking at what the render knows" />}
        {spaces && !space && (
          <p className="text-dim">
            No depth, positions, normals or ids here yet. Add a render that holds them; a channel that is
            depth under another name can be given that role in its source's panel.
          </p>
        )}
        {space && <Known space={space} />}
        {space && writable && (
          <div className="flex flex-wrap gap-1" role="group" aria-label="Make of it">
            {usable.map((kind) => (
              <Button
                key={kind.op}
                title={kind.title}
                onClick={() => onPut((before) => added(before, space, kind.op, item, picture))}
              >
                {kind.label}
              </Button>
            ))}
          </div>
        )}
      </div>
      {step && writable && <Picks shot={shot} recipe={recipe} items={items} step={step} space={space} />}
      <StepPanel {...props} mattes={false} />
    </aside>
  );
}

interface PicksProps {
  shot: number;
  recipe: Recipe;
  items: Item[];
  step: Step;
  space: SpaceRow | undefined;
}

/** What a click on the stage sets of the chosen step. */
function Picks({ shot, recipe, step, space }: PicksProps) {
  const edit = useDraft((state) => state.edit);
  const { pick, change } = useView();
  const [problem, setProblem] = useState<Problem | null>(null);
  // What is picked is for this step alone.
  useEffect(() => {
    return () => change({ pick: null });
  }, [change, step.name]);
  const picks = pickablesOf(step, space?.camera ?? null);
  const ids =
    step.op === "id_pick"
      ? (space?.ids.find((row) => row.address === step.in?.ids) ?? space?.ids[0])
      : undefined;
  const begin = (kind: Pickable) => () => {
    setProblem(null);
    const wanted =
      kind.knows === "depth"
        ? { depth: depthOf(space, step, recipe) }
        : { depth: depthOf(space, undefined, recipe), position: positionOf(space, step, recipe) };
    change({
      pick: {
        label: kind.label.toLowerCase(),
        take: (x, y) =>
          void locate(shot, recipe, wanted, x + 0.5, y + 0.5).then(
            (found) => {
              const known = kind.knows === "depth" ? found.depth : found.position;
              if (known === null)
                setProblem({
                  code: "nothing",
                  message: "there is nothing at that place",
                  where: "",
                  remedy: "click on something that the depth knows",
                });
              else edit((before) => kind.taken(before, found));
            },
            (error: unknown) => setProblem(problemOf(error)),
          ),
      },
    });
  };
  const picking = pick?.label === "things by their ids";
  const beginIds = () =>
    change({
      pick: picking
        ? null
        : {
            label: "things by their ids",
            stays: true,
            take: (x, y, keys) =>
              void locate(
                shot,
                recipe,
                { ids: String(step.in?.ids ?? space?.source) },
                x + 0.5,
                y + 0.5,
              ).then(
                (found) =>
                  edit((before) =>
                    changeStep(before, step.name, (own) => ({
                      ...own,
                      set: {
                        ...own.set,
                        pick: pickedAfter((own.set?.pick ?? []) as (string | number)[], found.ids, keys),
                      },
                    })),
                  ),
                (error: unknown) => setProblem(problemOf(error)),
              ),
          },
    });
  if (!picks.length && !ids) return null;
  const chosen = (step.set?.pick ?? []) as (string | number)[];
  return (
    <div
      className="shrink-0 space-y-1.5 border-b border-line px-3 py-2"
      role="group"
      aria-label="On the stage"
    >
      <div className="flex flex-wrap items-center gap-1">
        <span className="mr-1 text-dim">On the stage</span>
        {picks.map((kind) => (
          <Button key={kind.label} lit={pick?.label === kind.label.toLowerCase()} onClick={begin(kind)}>
            {kind.label}
          </Button>
        ))}
        {ids && (
          <Button lit={picking} title="Shift adds, Alt takes away" onClick={beginIds}>
            Pick things
          </Button>
        )}
        {step.op === "depth_range" && (
          <Button
            onClick={() => {
              const range = space?.depths[0]?.range ?? [0, 1];
              const near = space?.depths[0]?.near_is === "large" ? [...range].reverse() : range;
              edit((before) =>
                changeStep(before, step.name, (own) => ({
                  ...own,
                  set: { ...own.set, near: near[0], far: near[1] },
                })),
              );
            }}
          >
            All of it
          </Button>
        )}
      </div>
      {ids && (
        <div className="flex flex-wrap gap-1">
          {chosen.map((entry) => (
            <button
              key={String(entry)}
              type="button"
              title="Leave it out"
              className="rounded-sm border border-line px-1.5 font-mono text-[11px] hover:border-ember"
              onClick={() =>
                edit((before) =>
                  changeStep(before, step.name, (own) => ({
                    ...own,
                    set: { ...own.set, pick: chosen.filter((other) => other !== entry) },
                  })),
                )
              }
            >
              {entry} ×
            </button>
          ))}
          {!chosen.length && <span className="text-dim">nothing is picked yet</span>}
        </div>
      )}
      {ids && ids.names.length > 0 && (
        <input
          list={`names-of-${step.name}`}
          aria-label="Pick by name"
          placeholder="or by name"
          className="h-6 w-full rounded-sm border border-line bg-well px-2 font-mono text-[12px] placeholder:text-faint"
          onKeyDown={(event) => {
            event.stopPropagation();
            const name = event.currentTarget.value.trim();
            if (event.key !== "Enter" || !ids.names.includes(name)) return;
            event.currentTarget.value = "";
            edit((before) =>
              changeStep(before, step.name, (own) => ({
                ...own,
                set: { ...own.set, pick: [...chosen.filter((other) => other !== name), name] },
              })),
            );
          }}
        />
      )}
      {ids && (
        <datalist id={`names-of-${step.name}`}>
          {ids.names.map((name) => (
            <option key={name} value={name} />
          ))}
        </datalist>
      )}
      {problem && <Message problem={problem} />}
    </div>
  );
}
