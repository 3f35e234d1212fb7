import { useQuery } from "@tanstack/react-query";

import { type Item, api, got } from "@/api/client";
import { isSame, keepWhileSame } from "@/api/queries";
import {
  type Recipe,
  type Step,
  changeStep,
  fedInstead,
  findStep,
  insertSteps,
  itemOf,
  move,
  setPort,
  sourcesOf,
  stepsOf,
  drafted,
} from "@/api/recipe";
import type { components } from "@/api/schema";
import { Button } from "@/parts/Button";
import { useSettled } from "@/parts/useSettled";
import { useMarks } from "@/shot/marks";

type Remedy = components["schemas"]["Remedy"];

/** The recipe after a remedy, and what comes into focus. */
function taken(before: Recipe, item: string, remedy: Remedy): [Recipe, string] {
  if (remedy.feed) {
    const [added, last] = addedAbove(before, item, remedy.steps as unknown as Step[]);
    return [setPort(added, item, remedy.feed.port!, last ?? remedy.feed.address), item];
  }
  if (remedy.change) {
    const changed = Object.entries(remedy.change).reduce(
      (recipe, [name, change]) => changeStep(recipe, name, (step) => ({ ...step, ...change })),
      before,
    );
    return [changed, item];
  }
  if (remedy.replace) return [changeStep(before, item, (step) => ({ ...step, ...remedy.replace })), item];
  if (remedy.read || remedy.read_alpha) {
    const sources = Object.entries(sourcesOf(before)).map(([name, spec]) => {
      const [colour, alpha] = [remedy.read?.[name], remedy.read_alpha?.[name]];
      return [name, { ...spec, ...(colour ? { colour } : {}), ...(alpha ? { read_alpha: alpha } : {}) }];
    });
    return [{ ...before, sources: Object.fromEntries(sources) as Recipe["sources"] & object }, item];
  }
  const steps = remedy.steps as unknown as Step[];
  if (remedy.instead) {
    const within = remedy.within ?? item;
    const [added, last] = addedAbove(before, within, steps, remedy.instead);
    return [changeStep(added, within, (step) => fedInstead(step, remedy.instead!, last!)), item];
  }
  return insertSteps(before, steps, item);
}

/** The recipe with steps put behind an item (or as low as can be) and above a step; the name of the last. */
function addedAbove(
  before: Recipe,
  below: string,
  steps: Step[],
  behind: string | null = null,
): [Recipe, string | undefined] {
  if (!steps.length) return [before, undefined];
  const place = stepsOf(before).findIndex((step) => step.name === below);
  const [added, last] = insertSteps(before, steps, behind && itemOf(behind));
  const names = stepsOf(added).filter((step) => !findStep(before, step.name));
  return [names.reduce((recipe, step, index) => move(recipe, step.name, place + index), added), last];
}

/** What is told of mattes; a picture's soft alpha is none, unless it is being made. */
const OF_MATTES = new Set(["grey_core", "background", "turned"]);

interface Props {
  shot: number;
  item: Item;
  writable: boolean;
  /** Whether a picture's alpha is judged as a matte. */
  mattes: boolean;
  /** Another item whose warnings are told already: what is the same is told once. */
  besides?: Item | undefined;
  onPut: (change: (before: Recipe) => [Recipe, string]) => void;
}

/** What is likely wrong with an item, once it has settled. */
function useChecks(shot: number, item: Item | undefined) {
  const marks = useMarks((state) => state.marks);
  const settled = useSettled(item, 400);
  return useQuery({
    queryKey: ["checks", shot, item?.name, settled?.digest, marks],
    queryFn: () =>
      got(
        api.POST("/api/shots/{shot_id}/checks", {
          params: { path: { shot_id: shot } },
          body: { ...drafted(settled!.of), item: settled!.name, marks },
        }),
      ),
    enabled: item !== undefined && !item.problem && item.digest !== "" && isSame(settled, item),
    placeholderData: keepWhileSame(2, item?.name),
    staleTime: Infinity,
    gcTime: 30_000,
    retry: false,
  });
}

/** What is likely wrong with the matte or the sum in focus, each with a remedy of one click. */
export function Checks({ shot, item, writable, mattes, besides, onPut }: Props) {
  const checks = useChecks(shot, item);
  const others = useChecks(shot, besides).data;
  const told = checks.data
    ?.filter((row) => mattes || item.plane || !OF_MATTES.has(row.code))
    .filter((row) => !others?.some((other) => other.code === row.code && other.text === row.text));
  if (!told?.length || item.problem) return null;
  return (
    <ul aria-label="Warnings" className="space-y-2">
      {told.map(({ code, text, remedy }) => (
        <li key={code} className={`border-l-2 pl-2 ${remedy ? "border-clay" : "border-line"}`}>
          <p className={`leading-snug ${remedy ? "text-clay" : "text-dim"}`}>{text}</p>
          {writable && remedy && (
            <Button className="mt-1" onClick={() => onPut((before) => taken(before, item.name, remedy))}>
              {remedy.label}
            </Button>
          )}
        </li>
      ))}
    </ul>
  );
}
