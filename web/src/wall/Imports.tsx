import { TriangleAlert } from "lucide-react";

import type { SourceRow } from "@/api/client";
import { type Recipe, sourcesOf } from "@/api/recipe";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";
import { useDraft } from "@/shot/draft";
import { addSource, useUploads } from "@/shot/sources";

/** What is on its way in, what went wrong with it, and what was imported but is not in the recipe. */
export function Imports({
  recipe,
  sources,
  writable,
}: {
  recipe: Recipe;
  sources: SourceRow[];
  writable: boolean;
}) {
  const { rows, drop } = useUploads();
  const edit = useDraft((state) => state.edit);
  const used = Object.values(sourcesOf(recipe)).map((spec) => spec.files);
  const coming = rows.map((row) => row.source);
  const unused = sources.filter(
    (row) => row.state === "ready" && !used.includes(row.files) && !coming.includes(row.id),
  );
  return (
    <div className="max-h-56 shrink-0 overflow-y-auto px-3">
      {rows.map((row) => {
        const source = sources.find((entry) => entry.id === row.source);
        const unpacked = source?.channels ? source.done / source.channels : 0;
        if (row.problem)
          return (
            <div key={row.key} className="mb-2">
              <Message problem={{ ...row.problem, where: row.problem.where || row.name }}>
                <button className="mt-1 text-[12px] text-dim underline" onClick={() => drop(row.key)}>
                  Put away
                </button>
              </Message>
            </div>
          );
        if (row.told.length)
          return (
            <div
              key={row.key}
              role="status"
              className="mb-2 border-l-2 border-clay pl-2 text-[12px] text-clay"
            >
              {row.told.map((text) => (
                <p key={text}>{text}</p>
              ))}
              <button className="text-dim underline" onClick={() => drop(row.key)}>
                Put away
              </button>
            </div>
          );
        return (
          <div key={row.key} className="mb-2 text-[12px]" role="status">
            <div className="flex justify-between gap-2">
              <span className="truncate">{row.name}</span>
              <span className="shrink-0 font-mono text-[11px] text-dim">
                {row.source === null
                  ? `sending ${Math.round(row.sent * 100)} %`
                  : source?.channels
                    ? `${source.done} of ${source.channels}`
                    : "reading"}
              </span>
            </div>
            <div className="mt-1 h-[3px] rounded-full bg-line">
              <div
                className="h-full rounded-full bg-lichen"
                style={{
                  width: `${Math.round((row.source === null ? row.sent * 0.5 : 0.5 + unpacked * 0.5) * 100)}%`,
                }}
              />
            </div>
          </div>
        );
      })}
      {writable &&
        unused.map((row) => (
          <div key={row.id} className="mb-2 flex items-center justify-between gap-2 text-[12px] text-dim">
            <span className="truncate" title="Imported, but not in the recipe">
              {row.files}
            </span>
            <Button onClick={() => edit((before) => addSource(before, row.files)[0])}>Use</Button>
          </div>
        ))}
      {sources
        .filter((row) => row.warnings.length > 0 && used.includes(row.files))
        .map((row) => (
          <p key={row.id} className="mb-2 flex items-start gap-1 text-[11px] text-clay">
            <TriangleAlert size={11} className="mt-0.5 shrink-0" />
            {row.files}: {row.warnings.join("; ")}
          </p>
        ))}
    </div>
  );
}
