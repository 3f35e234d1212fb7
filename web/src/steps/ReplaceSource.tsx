import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";

import type { SourceRow, SourceWhole } from "@/api/client";
import { sourceQuery } from "@/api/queries";
import { type Recipe, addressesOf, itemOf, restOf, sourcesOf, stepsOf } from "@/api/recipe";
import { Button } from "@/parts/Button";
import { Choose } from "@/parts/Choose";
import { FileInput } from "@/parts/FileInput";
import { Modal } from "@/parts/Modal";
import { Waiting } from "@/parts/Waiting";
import { useDraft } from "@/shot/draft";
import { newestOf } from "@/shot/sequences";
import { useDraftSources, useImport } from "@/shot/sources";

interface Props {
  shot: number;
  name: string;
  recipe: Recipe;
  /** What the source is now, where it could be read. */
  now: SourceWhole | undefined;
  onClose: () => void;
}

/** Where nothing is chosen yet. */
const NONE = "none";

const sizeOf = (whole: SourceWhole) => {
  const display = (whole.parts[0] as { display?: number[] } | undefined)?.display;
  return display ? `${display[2]} × ${display[3]}` : "";
};

/** Channels and layers that addresses name of a source, with the steps that do. */
function namedOf(recipe: Recipe, source: string): Map<string, string[]> {
  const named = new Map<string, string[]>();
  for (const step of stepsOf(recipe))
    for (const address of addressesOf(step))
      if (itemOf(address) === source && restOf(address))
        named.set(restOf(address), [...(named.get(restOf(address)) ?? []), step.name]);
  return named;
}

/** Another file in the place of a source's: what hangs on it stays, what changes is told before, undo takes it back. */
export function ReplaceSource({ shot, name, recipe, now, onClose }: Props) {
  const edit = useDraft((state) => state.edit);
  const rows = useDraftSources();
  const picker = useRef<HTMLInputElement>(null);
  const [chosen, setChosen] = useState<string>("");
  const importFiles = useImport((row: SourceRow) => setChosen(row.files));
  const files = sourcesOf(recipe)[name]!.files;
  const others = rows.filter((row) => row.files !== files && row.state === "ready");
  const row = others.find((each) => each.files === chosen);
  const next = useQuery(sourceQuery(shot, row?.id, false)).data;
  const before = now?.channel_rows.map((channel) => channel.name) ?? [];
  const after = next?.channel_rows.map((channel) => channel.name) ?? [];
  const gone = before.filter((channel) => !after.includes(channel));
  const fresh = after.filter((channel) => !before.includes(channel));
  const layers = new Set(after.map((channel) => channel.split(".").slice(0, -1).join(".")));
  const broken = [...namedOf(recipe, name)].filter(([rest]) => !after.includes(rest) && !layers.has(rest));
  const list = (channels: string[]) =>
    channels.slice(0, 6).join(", ") + (channels.length > 6 ? ` and ${channels.length - 6} more` : "");
  return (
    <Modal title={`Replace ${name}`} about={`Now: ${files}`} width={480} open onClose={onClose}>
      <div className="mb-3 flex items-center gap-2">
        {others.length > 0 && (
          <Choose
            label="By the file"
            value={chosen || NONE}
            options={[
              ...(chosen ? [] : [{ value: NONE, label: "choose a file of this shot" }]),
              ...others.map((each) => each.files),
            ]}
            onChange={(value) => setChosen(value === NONE ? "" : value)}
            className="min-w-0 grow"
          />
        )}
        <Button onClick={() => picker.current?.click()}>Add a file</Button>
        <FileInput picker={picker} testId="replacing-file" onFiles={(files) => void importFiles(files)} />
      </div>
      {row && !next && <Waiting text="Looking at it" />}
      {row && next && (
        <dl aria-label="What changes" className="mb-3 grid grid-cols-[110px_1fr] gap-x-2 gap-y-1 text-[12px]">
          <dt className="text-dim">Size</dt>
          <dd className="font-mono">
            {now && sizeOf(now) !== sizeOf(next)
              ? `${sizeOf(now)} → ${sizeOf(next)}`
              : `${sizeOf(next)}, the same`}
          </dd>
          <dt className="text-dim">Channels</dt>
          <dd className="font-mono">
            {before.length === after.length && !gone.length
              ? `${after.length}, the same`
              : `${before.length} → ${after.length}`}
          </dd>
          {gone.length > 0 && (
            <>
              <dt className="text-dim">No more</dt>
              <dd className="break-words font-mono">{list(gone)}</dd>
            </>
          )}
          {fresh.length > 0 && (
            <>
              <dt className="text-dim">New</dt>
              <dd className="break-words font-mono">{list(fresh)}</dd>
            </>
          )}
        </dl>
      )}
      {row && next && broken.length > 0 && (
        <p role="alert" className="mb-3 border-l-2 border-clay pl-2 text-[12px] text-clay">
          {broken.map(([rest, users]) => `${users.join(", ")} will miss ${rest}`).join("; ")}.
        </p>
      )}
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>Cancel</Button>
        <Button
          main
          overwrites
          disabled={!row || !next}
          onClick={() => {
            onClose();
            edit((was) => {
              const { version: _, ...read } = sourcesOf(was)[name]!;
              const next = { ...read, ...newestOf(row!) };
              return { ...was, sources: { ...sourcesOf(was), [name]: next } };
            });
          }}
        >
          Replace
        </Button>
      </div>
    </Modal>
  );
}
