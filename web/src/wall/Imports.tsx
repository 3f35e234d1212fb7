import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Trash2, TriangleAlert } from "lucide-react";
import { useState } from "react";

import { type SourceRow, api, got, problemOf } from "@/api/client";
import { type Recipe, sourcesOf } from "@/api/recipe";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";
import { Modal } from "@/parts/Modal";
import { useDraft } from "@/shot/draft";
import { addSource, isEmpty, useUploads } from "@/shot/sources";

/** What is on its way in, what went wrong with it, and what was imported but is not in the recipe. */
export function Imports({
  shot,
  recipe,
  sources,
  writable,
}: {
  shot: number;
  recipe: Recipe;
  sources: SourceRow[];
  writable: boolean;
}) {
  const { rows, drop } = useUploads();
  const edit = useDraft((state) => state.edit);
  const client = useQueryClient();
  const [leaving, setLeaving] = useState<SourceRow | null>(null);
  const used = Object.values(sourcesOf(recipe)).map((spec) => spec.files);
  const coming = rows.map((row) => row.source);
  const unused = sources.filter(
    (row) =>
      (row.state === "ready" ||
        row.state === "failed" ||
        (isEmpty(row) && !rows.some((other) => other.sent < 1))) &&
      !used.includes(row.files) &&
      !coming.includes(row.id),
  );
  const remove = useMutation({
    mutationFn: (source: number) =>
      got(
        api.DELETE("/api/shots/{shot_id}/sources/{source_id}", {
          params: { path: { shot_id: shot, source_id: source } },
        }),
      ),
    onSuccess: () => setLeaving(null),
    onSettled: () => client.invalidateQueries({ queryKey: ["sources", shot] }),
  });
  return (
    <div className="max-h-56 shrink-0 overflow-y-auto px-3">
      {rows.map((row) => {
        const source = sources.find((entry) => entry.id === row.source);
        const [done, of] = source?.frames
          ? [source.frames.ready + source.frames.failed.length, source.frames.count]
          : [source?.done ?? 0, source?.channels ?? 0];
        const unpacked = of ? done / of : 0;
        // It waits for room on the server's disk.
        if (source?.problem && source.state === "waiting")
          return <Message key={row.key} problem={source.problem} />;
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
                  : of
                    ? `${done} of ${of}${source?.frames ? " frames" : ""}`
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
            <span
              className={`truncate ${row.state === "failed" ? "text-ember" : ""}`}
              title={row.problem?.message ?? "Imported, but not in the recipe"}
            >
              {row.files}
            </span>
            <span className="flex shrink-0 gap-1">
              <Button onClick={() => edit((before) => addSource(before, row)[0])}>Use</Button>
              <Button
                quiet
                aria-label={`Delete ${row.files}`}
                title="Delete the file"
                onClick={() => setLeaving(row)}
              >
                <Trash2 size={12} />
              </Button>
            </span>
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
      {leaving && (
        <Modal title={`Delete ${leaving.files}`} open onClose={() => setLeaving(null)}>
          <p className="mb-4 text-[12px] text-dim">
            The file goes from the server, and earlier revisions that read it cannot be seen any more until it
            is imported again. This cannot be undone.
          </p>
          {remove.error && <Message problem={problemOf(remove.error)} />}
          <div className="flex justify-end gap-2">
            <Button onClick={() => setLeaving(null)}>Keep it</Button>
            <Button
              className="border-ember text-ember"
              disabled={remove.isPending}
              onClick={() => remove.mutate(leaving.id)}
            >
              Delete
            </Button>
          </div>
        </Modal>
      )}
    </div>
  );
}
