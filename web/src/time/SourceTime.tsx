import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useRef } from "react";

import { type SourceRow, api, got } from "@/api/client";
import { type Recipe, type SourceSpec, sourcesOf } from "@/api/recipe";
import { Button } from "@/parts/Button";
import { Choose } from "@/parts/Choose";
import { FileInput } from "@/parts/FileInput";
import { Message } from "@/parts/Message";
import { NumberBox } from "@/parts/NumberBox";
import { useDraft } from "@/shot/draft";
import { worded } from "@/shot/sequences";
import { useImport } from "@/shot/sources";
import { Line } from "@/steps/Line";

import { barsOf } from "./range";

interface Props {
  shot: number;
  name: string;
  recipe: Recipe;
  row: SourceRow;
  writable: boolean;
}

const BEYOND = [
  { value: "hold", label: "the nearest is held" },
  { value: "loop", label: "it begins again" },
  { value: "black", label: "black" },
  { value: "error", label: "an error" },
];
const MISSING = [
  { value: "hold", label: "the one before it" },
  { value: "black", label: "black" },
  { value: "error", label: "an error" },
];

/** How a source of many frames lies in time, what is missing of it, and what stands there. */
export function SourceTime({ shot, name, recipe, row, writable }: Props) {
  const edit = useDraft((state) => state.edit);
  const client = useQueryClient();
  const again = useMutation({
    mutationFn: () =>
      got(
        api.POST("/api/shots/{shot_id}/sources/{source_id}/again", {
          params: { path: { shot_id: shot, source_id: row.id } },
        }),
      ),
    onSettled: () => client.invalidateQueries({ queryKey: ["sources", shot] }),
  });
  const picker = useRef<HTMLInputElement>(null);
  const importFiles = useImport();
  const { frames } = row;
  const spec = sourcesOf(recipe)[name]!;
  const [bar] = barsOf({ nexal: 1, sources: { [name]: spec } }, [row]);
  if (!frames) return null;
  const numbers = frames.numbers;
  const change = (to: Partial<SourceSpec>, done = true) =>
    edit((before) => {
      const next: Record<string, unknown> = { ...sourcesOf(before)[name]!, ...to };
      for (const [key, value] of Object.entries(to))
        if (value === undefined || value === "hold" || (key === "offset" && value === 0)) delete next[key];
      return { ...before, sources: { ...sourcesOf(before), [name]: next as unknown as SourceSpec } };
    }, done);
  const missing = bar?.gaps.map(([from, to]) => [from - (spec.offset ?? 0), to - (spec.offset ?? 0)]) ?? [];
  const whole = (next: number) => Math.round(next);
  return (
    <fieldset disabled={!writable} className="space-y-2 border-t border-line pt-3">
      <legend className="sr-only">In time</legend>
      <p className="text-dim">
        {frames.count} frames, numbered {worded(numbers)}
        {frames.ready + frames.failed.length < frames.count && `; ${frames.ready} unpacked so far`}
      </p>
      {writable && (
        <div className="flex flex-wrap items-center gap-2">
          <Button
            title="Numbered files, whatever they are called before their numbers; those that are there are compared"
            onClick={() => picker.current?.click()}
          >
            Add or repair frames…
          </Button>
          <FileInput
            picker={picker}
            multiple
            testId="frames-file"
            onFiles={(files) => void importFiles(files, row.files)}
          />
        </div>
      )}
      {frames.versions.length > 0 && (
        <Line label="Version" title="Frames that came later stand in versions of their own">
          <Choose
            label="Version"
            value={String(Math.min(spec.version ?? 1, frames.version))}
            options={[
              { value: "1", label: "1: the first frames" },
              ...frames.versions.map(({ version, numbers: came }) => ({
                value: String(version),
                label: `${version}: ${worded(came)} newer`,
              })),
            ]}
            onChange={(value) => change({ version: Number(value) })}
            disabled={!writable}
            className="min-w-0 grow"
          />
        </Line>
      )}
      {missing.length > 0 && <p className="text-ember">missing: {worded(missing)}</p>}
      {frames.failed.length > 0 && (
        <Message
          problem={{
            code: "frames",
            message: `${frames.failed.length} ${frames.failed.length === 1 ? "frame" : "frames"} could not be read`,
            where: "",
            remedy: frames.failed
              .slice(0, 4)
              .map(({ number, problem }) => `${number}: ${problem.message}`)
              .join("; "),
          }}
        >
          {writable && (
            <div className="mt-1">
              <Button disabled={again.isPending} onClick={() => again.mutate()}>
                Read them again
              </Button>
            </div>
          )}
        </Message>
      )}
      <Line label="Moved by" title="Frames by which it begins later">
        <NumberBox
          label="Moved by"
          value={spec.offset ?? 0}
          step={1}
          places={0}
          unit="frames"
          onChange={(next, done) => change({ offset: whole(next) }, done)}
        />
      </Line>
      <Line label="Numbers" title="The numbers of its files that it begins and ends with">
        <NumberBox
          label="First number"
          value={spec.first ?? numbers[0]?.[0] ?? 1}
          step={1}
          places={0}
          max={spec.last}
          onChange={(next, done) => change({ first: whole(next) }, done)}
        />
        to
        <NumberBox
          label="Last number"
          value={spec.last ?? numbers.at(-1)?.[1] ?? 1}
          step={1}
          places={0}
          min={spec.first}
          onChange={(next, done) => change({ last: whole(next) }, done)}
        />
        {(spec.first !== undefined || spec.last !== undefined) && (
          <Button quiet onClick={() => change({ first: undefined, last: undefined } as Partial<SourceSpec>)}>
            all
          </Button>
        )}
      </Line>
      {(["before", "after"] as const).map((side) => (
        <Line key={side} label={side === "before" ? "Before it" : "After it"}>
          <Choose
            label={side === "before" ? "Before its range" : "After its range"}
            value={spec[side] ?? "hold"}
            options={BEYOND}
            disabled={!writable}
            onChange={(value) => change({ [side]: value })}
            className="w-44"
          />
        </Line>
      ))}
      <Line label="Missing" title="What stands for a number that is not there">
        <Choose
          label="For missing numbers"
          value={spec.missing ?? "hold"}
          options={MISSING}
          disabled={!writable}
          onChange={(value) => change({ missing: value as SourceSpec["missing"] & string })}
          className="w-44"
        />
      </Line>
    </fieldset>
  );
}
