import { useQuery } from "@tanstack/react-query";

import { type Item, api, got } from "@/api/client";
import { isSame, keepWhileSame } from "@/api/queries";
import { type Recipe, drafted, findStep, sourcesOf } from "@/api/recipe";
import { stepPage, useHelp } from "@/help/helpState";
import { Button } from "@/parts/Button";
import { useSettled } from "@/parts/useSettled";
import { useMarksOf } from "@/shot/marks";

import { isStill, meantFor, remedied } from "./remedies";
import { wordsOf } from "./schema";

/** What is told of mattes; a picture's soft alpha is none, unless it is being made. */
const OF_MATTES = new Set(["grey_core", "background", "turned"]);

interface Props {
  shot: number;
  /** As it is edited: what was worked out for another is offered no more. */
  recipe: Recipe;
  item: Item;
  writable: boolean;
  /** Whether a picture's alpha is judged as a matte. */
  mattes: boolean;
  /** Another item whose warnings are told already: what is the same is told once. */
  besides?: Item | undefined;
  onPut: (change: (before: Recipe) => [Recipe, string]) => void;
  className?: string;
}

/** What is likely wrong with an item, once it has settled. */
function useChecks(shot: number, item: Item | undefined) {
  const marks = useMarksOf(item?.name ?? null);
  const settled = useSettled(item, 400);
  // What a depth is said to measure changes no pixel, and what is told of it all the same.
  const depths = Object.values(settled ? sourcesOf(settled.of) : {}).map((spec) => spec.depth);
  const { data, isPlaceholderData } = useQuery({
    queryKey: ["checks", shot, item?.name, settled?.digest, marks, depths],
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
  // What was told of it as it was before stays there meanwhile, but mends it no more.
  return { told: data, stands: !isPlaceholderData && isSame(settled, item) };
}

/** What is likely wrong with the matte or the sum in focus, each with a remedy of one click. */
export function Checks({ shot, recipe, item, writable, mattes, besides, onPut, className = "" }: Props) {
  const { told: all, stands } = useChecks(shot, item);
  const { told: others } = useChecks(shot, besides);
  const told = all
    ?.filter((row) => mattes || item.plane || !OF_MATTES.has(row.code))
    .filter((row) => !others?.some((other) => other.code === row.code && other.text === row.text));
  const show = useHelp((state) => state.show);
  const op = findStep(item.of, item.name)?.op;
  if (!told?.length || item.problem) return null;
  return (
    <ul aria-label="Warnings" className={`space-y-2 ${className}`}>
      {told.map(({ code, text, remedy }) => (
        <li key={code} className={`border-l-2 pl-2 ${remedy ? "border-clay" : "border-line"}`}>
          <p className={`leading-snug ${remedy ? "text-clay" : "text-dim"}`}>
            {text}
            {op && (
              <button
                type="button"
                aria-label={`About this, in the help: ${wordsOf(op)}`}
                title={`${wordsOf(op)} in the help`}
                onClick={() => show(stepPage(op))}
                className="ml-1 px-1 font-mono text-[11px] text-lichen"
              >
                ?
              </button>
            )}
          </p>
          {writable && remedy && (
            <>
              <Button
                className="mt-1"
                disabled={!stands || !isStill(item.of, recipe)}
                onClick={() =>
                  onPut(meantFor(item.of, item.name, (before) => remedied(before, item.name, remedy)))
                }
              >
                {remedy.label}
              </Button>
              {remedy.effect && <p className="mt-1 text-[11px] leading-snug text-dim">{remedy.effect}</p>}
            </>
          )}
        </li>
      ))}
    </ul>
  );
}
