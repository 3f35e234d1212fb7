import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { type Item, api, got, problemOf } from "@/api/client";
import { sourceQuery, sourcesQuery } from "@/api/queries";
import { type Recipe, sourcesOf, usersOf } from "@/api/recipe";
import { SourceDepth } from "@/benches/space/SourceDepth";
import { Button } from "@/parts/Button";
import { Choose } from "@/parts/Choose";
import { Message } from "@/parts/Message";
import { useDraft } from "@/shot/draft";
import { useDraftSources } from "@/shot/sources";

import { SourceTime } from "@/time/SourceTime";

import { ReplaceSource } from "./ReplaceSource";
import { SourceLayers } from "./SourceLayers";

interface Props {
  shot: number;
  name: string;
  recipe: Recipe;
  item: Item | undefined;
  writable: boolean;
}

const READINGS = [
  { value: "auto", label: "by its format" },
  { value: "srgb", label: "sRGB-encoded" },
  { value: "linear", label: "scene-linear" },
  { value: "data", label: "as stored" },
];

const TO_COME = "…";

function megabytes(bytes: number): string {
  return bytes > 1e9 ? `${(bytes / 1e9).toFixed(2)} GB` : `${(bytes / 1e6).toFixed(1)} MB`;
}

/** What a source is, and how it is read. */
export function SourcePanel({ shot, name, recipe, item, writable }: Props) {
  const edit = useDraft((state) => state.edit);
  const [replacing, setReplacing] = useState(false);
  const spec = sourcesOf(recipe)[name]!;
  const row = useDraftSources().find((entry) => entry.files === spec.files);
  const client = useQueryClient();
  const again = useMutation({
    mutationFn: (source: number) =>
      got(
        api.POST("/api/shots/{shot_id}/sources/{source_id}/again", {
          params: { path: { shot_id: shot, source_id: source } },
        }),
      ),
    onSettled: () => client.invalidateQueries({ queryKey: ["sources", shot] }),
  });
  const { isPending } = useQuery(sourcesQuery(shot));
  const { data: source, isError } = useQuery(sourceQuery(shot, row?.id, row?.state !== "ready"));
  const part = source?.parts[0] as { display?: number[]; data?: number[]; compression?: string } | undefined;
  const users = usersOf(recipe, name);
  /** A layer is something else than was guessed; what was guessed needs no saying. */
  const correct = (layer: string, role: string, guess: string) =>
    edit((before) => {
      const { roles, ...rest } = sourcesOf(before)[name]!;
      const next = { ...roles, [layer]: role };
      if (role === guess) delete next[layer];
      const read = Object.keys(next).length ? { ...rest, roles: next } : rest;
      return { ...before, sources: { ...sourcesOf(before), [name]: read } };
    });
  const change = (key: "colour" | "read_alpha" | "non_finite", value: string, standard: string) =>
    edit((before) => {
      const next = { ...sourcesOf(before)[name]! };
      if (value === standard) delete next[key];
      else next[key] = value;
      return { ...before, sources: { ...sourcesOf(before), [name]: next } };
    });
  // What is still to be told has its line already: coming late, it would push away what is being clicked.
  const never = row ? row.state === "failed" || isError : !isPending;
  const told = (ready: boolean) => (ready || never ? "" : TO_COME);
  const later = told(source !== undefined);
  const facts: [string, string][] = [
    ["File", spec.files],
    [
      "Format",
      source ? `${source.format.toUpperCase()}${part?.compression ? `, ${part.compression}` : ""}` : later,
    ],
    ["Size", row ? megabytes(row.size) : later],
    ["Picture", part?.display ? `${part.display[2]} × ${part.display[3]}` : later],
    [
      "Data window",
      part?.data ? `${part.data[2]} × ${part.data[3]} at ${part.data[0]}, ${part.data[1]}` : later,
    ],
    [
      "Channels",
      source
        ? `${source.channels} in ${source.layers.length} ${source.layers.length === 1 ? "layer" : "layers"}`
        : later,
    ],
    ["Alpha", item?.alpha === "none" ? "none: opaque" : (item?.alpha ?? told(item !== undefined))],
    ["Ink profile", item?.inks ?? ""],
    ["Fingerprint", row ? `${row.fingerprint.slice(0, 16)}…` : later],
  ];
  return (
    <section
      aria-label="Source"
      data-source={name}
      className="flex min-h-0 grow flex-col gap-3 overflow-y-auto p-3 text-[12px]"
    >
      <header className="flex items-baseline justify-between gap-2">
        <h2 className="truncate text-[13px] font-semibold">
          Source <span className="font-normal text-dim">→ {name}</span>
        </h2>
        {users.length > 0 && (
          <span className="truncate text-[11px] text-faint">used by {users.join(", ")}</span>
        )}
      </header>
      {row?.problem && (
        <Message problem={row.problem}>
          {writable && row.state === "failed" && (
            <div className="mt-1">
              <Button disabled={again.isPending} onClick={() => again.mutate(row.id)}>
                Read it again
              </Button>
            </div>
          )}
        </Message>
      )}
      {again.error && <Message problem={problemOf(again.error)} />}
      {item?.problem && !row?.problem && <Message problem={item.problem} />}
      {row?.warnings.map((warning) => (
        <Message
          key={warning}
          kind="warning"
          problem={{ code: "warning", message: warning, where: spec.files, remedy: "" }}
        />
      ))}
      <dl className="grid grid-cols-[84px_1fr] gap-x-2 gap-y-1">
        {facts
          .filter(([, value]) => value)
          .map(([term, value]) => (
            <div key={term} className="contents">
              <dt className="text-dim">{term}</dt>
              <dd className="truncate font-mono" title={value}>
                {value}
              </dd>
            </div>
          ))}
      </dl>
      {row?.frames && <SourceTime shot={shot} name={name} recipe={recipe} row={row} writable={writable} />}
      <fieldset disabled={!writable} className="space-y-2 border-t border-line pt-3">
        <legend className="sr-only">How it is read</legend>
        <Reading
          label="Colour"
          value={spec.colour ?? "auto"}
          options={READINGS}
          onChange={(value) => change("colour", value, "auto")}
          disabled={!writable}
        />
        <Reading
          label="Alpha"
          value={spec.read_alpha ?? "file"}
          options={[
            { value: "file", label: "as the file says" },
            "straight",
            "premultiplied",
            { value: "matted", label: "matted, as stored" },
          ]}
          onChange={(value) => change("read_alpha", value, "file")}
          disabled={!writable}
        />
        <Reading
          label="Not finite"
          value={spec.non_finite ?? "keep"}
          options={["keep", { value: "zero", label: "becomes 0" }]}
          onChange={(value) => change("non_finite", value, "keep")}
          disabled={!writable}
        />
      </fieldset>
      {writable && (
        <div>
          <Button
            title="By a newer version, or any other file; what hangs on it stays"
            onClick={() => setReplacing(true)}
          >
            Replace the file…
          </Button>
        </div>
      )}
      {replacing && (
        <ReplaceSource
          shot={shot}
          name={name}
          recipe={recipe}
          now={source}
          onClose={() => setReplacing(false)}
        />
      )}
      <SourceDepth shot={shot} name={name} recipe={recipe} item={item} writable={writable} />
      {source && source.layers.length > 1 && (
        <SourceLayers source={source} corrected={spec.roles} writable={writable} onCorrect={correct} />
      )}
    </section>
  );
}

interface ReadingProps {
  label: string;
  value: string;
  options: (string | { value: string; label: string })[];
  onChange: (value: string) => void;
  disabled: boolean;
}

function Reading({ label, value, options, onChange, disabled }: ReadingProps) {
  const known = options.some((option) => (typeof option === "string" ? option : option.value) === value);
  return (
    <div className="grid grid-cols-[84px_1fr] items-center gap-2">
      <span className="text-dim">{label}</span>
      <Choose
        label={`${label} is read`}
        value={value}
        options={known ? options : [value, ...options]}
        onChange={onChange}
        disabled={disabled}
        className="w-44"
      />
    </div>
  );
}
