import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";

import { type Item, api, got, problemOf } from "@/api/client";
import { isSame } from "@/api/queries";
import { type Recipe, type Step, drafted, insertSteps, sourcesOf } from "@/api/recipe";
import type { components } from "@/api/schema";
import { AddressField } from "@/steps/AddressField";
import { isStill, meantFor } from "@/steps/remedies";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";
import { useSettled } from "@/parts/useSettled";
import { Waiting } from "@/parts/Waiting";
import { type DiagnosedAs, useView } from "@/stage/viewState";

import { Evidence } from "./Evidence";
import { Swatch } from "@/parts/Swatch";

export type Diagnosed = components["schemas"]["Diagnosed"];

interface Props {
  shot: number;
  recipe: Recipe;
  items: Item[];
  picture: Item | undefined;
  writable: boolean;
  onPut: (change: (before: Recipe) => [Recipe, string]) => void;
}

const VERDICTS: Record<string, string> = {
  straight: "Straight",
  premultiplied: "Premultiplied",
  matted: "Matted with",
  no_alpha: "No alpha",
  unused_alpha: "Alpha is the same everywhere",
  cannot_tell: "Cannot tell",
};

/** The recipe with the cure taken, and what comes into focus. */
function cured(before: Recipe, item: string, cure: NonNullable<Diagnosed["cure"]>): [Recipe, string] {
  const spec = sourcesOf(before)[item];
  if (cure.read && spec) {
    const sources = { ...sourcesOf(before), [item]: { ...spec, read_alpha: cure.read } };
    return [{ ...before, sources }, item];
  }
  return insertSteps(before, cure.steps as unknown as Step[], item);
}

/** What the picture in focus really is, how surely, by what evidence, and what puts it right. */
export function DiagnosisPanel({ shot, recipe, items, picture, writable, onPut }: Props) {
  const [alpha, setAlpha] = useState<string>();
  const { fringe, change } = useView();
  const settled = useSettled(picture, 250);
  const diagnosis = useQuery({
    queryKey: ["diagnosis", shot, picture?.name, settled?.digest, alpha],
    queryFn: () =>
      got(
        api.POST("/api/shots/{shot_id}/diagnose", {
          params: { path: { shot_id: shot } },
          body: { ...drafted(settled!.of), address: settled!.name, alpha: alpha ?? null },
        }),
      ),
    enabled: isSame(settled, picture),
    staleTime: Infinity,
    gcTime: 60_000,
    retry: false,
  });
  const answer = diagnosis.data;
  const told = answer && toldOf(answer);
  const showing = fringe !== null && fringe.item === picture?.name;
  // A new diagnosis of what is shown replaces the old one.
  const key = JSON.stringify(told);
  useEffect(() => {
    if (showing && told && picture) change({ fringe: { item: picture.name, told } });
    // The key stands for what was told.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [key, showing]);
  const isSource = picture !== undefined && picture.name in sourcesOf(recipe);
  const cure = answer?.cure && (isSource || !answer.cure.read) ? answer.cure : null;

  return (
    <section
      aria-label="Diagnosis"
      className="shrink-0 space-y-2 border-b border-line px-3 pb-3 pt-2.5 text-[12px]"
    >
      <header className="flex items-baseline justify-between gap-2">
        <h2 className="truncate text-[13px] font-semibold">
          Diagnosis {picture && <span className="font-normal text-dim">of {picture.name}</span>}
        </h2>
        {answer && answer.confidence > 0 && answer.verdict !== "no_alpha" && (
          <span className="shrink-0 font-mono text-[11px] text-dim">
            {Math.round(answer.confidence * 100)} % sure
          </span>
        )}
      </header>
      {!picture && <p className="text-dim">Choose a picture: it is told here what its soft edges hold.</p>}
      {picture && diagnosis.isPending && <Waiting text="Looking at its soft edges" />}
      {diagnosis.isError && <Message problem={problemOf(diagnosis.error)} />}
      {answer && picture && (
        <>
          <p className="flex flex-wrap items-center gap-x-1.5 text-[14px]" data-testid="verdict">
            <span
              className={`font-semibold ${answer.verdict === "cannot_tell" ? "text-dim" : "text-lichen"}`}
            >
              {VERDICTS[answer.verdict]}
            </span>
            {answer.verdict === "matted" && (
              <Swatch values={answer.backing} encoded={answer.domain === "display"} />
            )}
            {answer.domain && (
              <span className="text-dim">
                {answer.domain === "scene" ? "mixed in linear light" : "mixed in encoded values"}
              </span>
            )}
          </p>
          <Claims answer={answer} />
          {(answer.verdict === "no_alpha" || alpha) && (
            <AddressField
              label="Its alpha"
              kind="plane"
              value={alpha}
              items={items}
              optional
              onChange={setAlpha}
            />
          )}
          <Evidence answer={answer} open={isSource} shot={shot} item={picture} alpha={alpha} />
          <div className="flex flex-wrap gap-1.5">
            {cure && writable && (
              <Button
                lit
                disabled={!isSame(settled, picture) || !isStill(picture.of, recipe)}
                onClick={() =>
                  onPut(meantFor(picture.of, picture.name, (before) => cured(before, picture.name, cure)))
                }
              >
                {cure.text}
              </Button>
            )}
            {told && !alpha && (
              <Button
                lit={showing}
                aria-pressed={showing}
                title="Where a comp is too bright (warm) or too dark (cold) in the soft edge"
                onClick={() => change({ fringe: showing ? null : { item: picture.name, told } })}
              >
                Fringe
              </Button>
            )}
          </div>
        </>
      )}
    </section>
  );
}

function toldOf(answer: Diagnosed): DiagnosedAs | null {
  const { verdict, domain, backing } = answer;
  if (verdict !== "straight" && verdict !== "premultiplied" && verdict !== "matted") return null;
  return { verdict, domain: domain as DiagnosedAs["domain"], backing: backing as DiagnosedAs["backing"] };
}

/** What the file says of itself, and whether that is true. */
function Claims({ answer }: { answer: Diagnosed }) {
  const { claims, verdict } = answer;
  if (verdict === "cannot_tell")
    return (
      <p className="text-dim">
        {(answer.figures.soft as number | undefined)
          ? "Its soft pixels speak as much for one state as for another"
          : "There is no soft pixel to tell by"}
        ; it is taken for {claims === "none" ? "opaque" : claims}
      </p>
    );
  if (claims === "none") return null;
  const known = verdict === "straight" || verdict === "premultiplied" || verdict === "matted";
  const wrong = known && (verdict !== claims || (verdict === "premultiplied" && answer.domain === "display"));
  return (
    <p className={wrong ? "text-clay" : "text-dim"}>
      It is taken for {claims}
      {wrong ? ", which is not so: its soft edges will show a fringe" : known ? ", which is right" : ""}
    </p>
  );
}
