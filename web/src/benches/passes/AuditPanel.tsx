import { useMutation } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";

import { type Item, problemOf } from "@/api/client";
import { type Recipe, type Step, insertSteps } from "@/api/recipe";
import { Button } from "@/parts/Button";
import { Choose } from "@/parts/Choose";
import { Message } from "@/parts/Message";
import { Waiting } from "@/parts/Waiting";
import { useTools } from "@/stage/tools";

import { audited, lightLayers } from "./balance";

interface Props {
  shot: number;
  recipe: Recipe;
  /** The render that is audited. */
  picture: Item | undefined;
  /** Pictures that came in files of their own. */
  files: string[];
  writable: boolean;
  onPut: (change: (before: Recipe) => [Recipe, string]) => void;
}

const FOUND = "find it";

const number = (value: number) => (value !== 0 && value < 0.001 ? value.toExponential(1) : value.toFixed(4));

/** Which passes add up to the full picture, with figures, taken as steps with one click. */
export function AuditPanel({ shot, recipe, picture, files, writable, onPut }: Props) {
  const own = picture ? lightLayers(picture).map((layer) => layer || "RGB") : [];
  // Passes in files of their own: which of the pictures is the full one is found, or said.
  const apart = own.length < 2 && files.length > 2;
  const layers = apart ? [FOUND, ...files] : own;
  const [chosen, setChosen] = useState("");
  const full = layers.includes(chosen) ? chosen : (layers[0] ?? "");
  const address = apart ? (full === FOUND ? files[0]! : full) : picture?.name;
  const change = useTools((state) => state.change);
  const [done, setDone] = useState<number | null>(null);
  const stopped = useRef(false);
  const asked = useRef<Recipe | null>(null);
  const audit = useMutation({
    mutationFn: () => {
      stopped.current = false;
      asked.current = recipe;
      setDone(null);
      return audited(shot, recipe, address!, full === FOUND ? null : apart ? "RGB" : full, {
        told: setDone,
        stopped: () => stopped.current,
      });
    },
  });
  const { reset } = audit;
  useEffect(() => {
    reset();
  }, [full, reset]);
  const of = useRef(picture?.of);
  of.current = picture?.of;
  useEffect(() => {
    // What is told of the picture only now may be what was asked about already.
    if (!asked.current || of.current !== asked.current) reset();
  }, [picture?.name, picture?.digest, reset]);
  const answer = audit.data;
  const place = answer?.place;
  useEffect(() => {
    change({ lost: place ? [place] : [] });
    return () => change({ lost: [] });
  }, [place, change]);

  return (
    <section
      aria-label="Audit"
      className="shrink-0 space-y-2 border-b border-line px-3 pb-3 pt-2.5 text-[12px]"
    >
      <header className="flex items-baseline justify-between gap-2">
        <h2 className="text-[13px] font-semibold">
          Audit{" "}
          {(apart || picture) && (
            <span className="font-normal text-dim">
              of {apart ? `${files.length} pictures` : picture!.name}
            </span>
          )}
        </h2>
        {answer && (
          <span className="font-mono text-[11px] text-faint">
            {(answer.explained * 100).toFixed(1)} % explained
          </span>
        )}
      </header>
      {layers.length < 2 ? (
        <p className="leading-snug text-dim">
          Choose a render with several colour layers, or add its passes as files; the audit finds which of
          them add up to its full picture.
        </p>
      ) : (
        <div className="flex items-center gap-2">
          <span className="text-dim">Full picture</span>
          <Choose
            label="Full picture"
            value={full}
            options={layers}
            onChange={setChosen}
            className="min-w-0 grow"
          />
          <Button main={!answer} disabled={audit.isPending} onClick={() => audit.mutate()}>
            Audit
          </Button>
        </div>
      )}
      {audit.isPending && (
        <div className="flex items-center justify-between gap-2">
          <Waiting text={done === null ? "Auditing" : `Auditing, ${Math.round(done * 100)} %`} />
          {done !== null && <Button onClick={() => (stopped.current = true)}>Stop</Button>}
        </div>
      )}
      {audit.isError && problemOf(audit.error).code !== "stopped" && (
        <Message problem={problemOf(audit.error)} />
      )}
      {answer && (
        <>
          {!answer.claimed && (
            <p className="border-l-2 border-clay pl-2 leading-snug text-clay">
              No set of {apart ? "pictures" : "layers"} adds up to{" "}
              {apart && full === FOUND ? "any of them" : apart ? full : answer.full}.
            </p>
          )}
          {answer.parts.length > 0 && (
            <ul aria-label="Parts of the sum" className="max-h-36 overflow-y-auto font-mono">
              {answer.parts.map((part) => (
                <li key={`${part.layer} ${part.times}`} className="flex justify-between gap-2">
                  <span className="truncate">
                    {part.layer}
                    {part.times ? ` × ${part.times}` : ""}
                  </span>
                  <span className={part.coefficient === 1 ? "text-dim" : "text-clay"}>
                    {part.coefficient.toFixed(3)}
                  </span>
                </li>
              ))}
            </ul>
          )}
          {answer.sums.map((row) => (
            <p key={row.layer} className="leading-snug text-dim">
              {row.layer} is {row.of.join(" + ")}, and is left out.
            </p>
          ))}
          {place && (
            <p className="border-l-2 border-clay pl-2 leading-snug text-clay">
              {answer.full} holds something that no pass has, within {place[2]} × {place[3]} pixels at{" "}
              {place[0]}, {place[1]}.
            </p>
          )}
          <dl aria-label="What is left" className="grid grid-cols-4 gap-x-2 font-mono text-[11px]">
            {(
              [
                ["mean", number(answer.residual.mean)],
                ["p99", number(answer.residual.p99)],
                ["largest", number(answer.residual.max)],
                ["psnr", answer.residual.psnr == null ? "equal" : `${answer.residual.psnr.toFixed(1)} dB`],
              ] as const
            ).map(([label, value]) => (
              <div key={label}>
                <dt className="text-faint">{label}</dt>
                <dd>{value}</dd>
              </div>
            ))}
          </dl>
          {answer.steps.length > 0 && writable && (
            <Button
              main
              onClick={() =>
                onPut((before) => {
                  const [next] = insertSteps(
                    before,
                    answer.steps as unknown as Step[],
                    picture?.name ?? null,
                  );
                  const sum = (next.steps ?? []).filter((step) => step.op === "sum_passes").at(-1);
                  return [next, sum?.name ?? ""];
                })
              }
            >
              Take as steps
            </Button>
          )}
        </>
      )}
    </section>
  );
}
