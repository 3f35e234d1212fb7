import { useState } from "react";
import { useSearchParams } from "react-router";

import type { Item } from "@/api/client";
import { type Recipe, sourcesOf } from "@/api/recipe";
import { Choose } from "@/parts/Choose";
import { useDraft } from "@/shot/draft";

import { Known } from "./Known";
import { useSpace } from "./useSpace";

const KINDS = [
  { value: "auto", label: "found by itself" },
  { value: "planar", label: "along the view" },
  { value: "radial", label: "to the eye" },
  { value: "distance", label: "distance, small is near" },
  { value: "turned", label: "distance, large is near" },
  { value: "inverse", label: "inverse distance" },
  { value: "buffer", label: "z-buffer" },
];

interface Props {
  shot: number;
  name: string;
  recipe: Recipe;
  item: Item | undefined;
  writable: boolean;
}

/** What a source knows of its space, and how its depth is read where that was not found rightly. */
export function SourceDepth({ shot, name, recipe, item, writable }: Props) {
  const edit = useDraft((state) => state.edit);
  const [params] = useSearchParams();
  const space = useSpace(shot, recipe, Boolean(item?.problem))?.find((row) => row.source === name);
  if (!space) return null;
  const spec = sourcesOf(recipe)[name]!;
  const change = (key: "depth" | "nothing", value: string | number | undefined) =>
    edit((before) => {
      const { [key]: _, ...rest } = sourcesOf(before)[name]!;
      const read = value === undefined ? rest : { ...rest, [key]: value };
      return { ...before, sources: { ...sourcesOf(before), [name]: read } };
    });
  return (
    <section aria-label="Space of the source" className="space-y-2 border-t border-line pt-3">
      <h3 className="text-dim">Space</h3>
      {/* The Space bench says it above. */}
      {params.get("bench") !== "space" && <Known space={space} />}
      {space.depths.length > 0 && (
        <>
          <div className="grid grid-cols-[84px_1fr] items-center gap-2">
            <span className="text-dim">Depth</span>
            <Choose
              label="Depth is read"
              value={spec.depth ?? "auto"}
              options={KINDS}
              onChange={(value) => change("depth", value === "auto" ? undefined : value)}
              disabled={!writable}
              className="w-44"
            />
          </div>
          <div
            className="grid grid-cols-[84px_1fr] items-center gap-2"
            title="The number that stands where nothing is; empty: what is infinite or beyond 1e7"
          >
            <span className="text-dim">Nothing is</span>
            <Nothing
              key={`nothing is ${spec.nothing}`}
              value={spec.nothing}
              writable={writable}
              onChange={(value) => change("nothing", value)}
            />
          </div>
        </>
      )}
    </section>
  );
}

interface NothingProps {
  value: number | undefined;
  writable: boolean;
  onChange: (value: number | undefined) => void;
}

/** A number, or none. */
function Nothing({ value, writable, onChange }: NothingProps) {
  const [wrong, setWrong] = useState(false);
  const commit = (text: string) => {
    const next = text.trim() === "" ? undefined : Number(text.replace(",", "."));
    const unfit = next !== undefined && !Number.isFinite(next);
    setWrong(unfit);
    if (!unfit && next !== value) onChange(next);
  };
  return (
    <span>
      <input
        aria-label="Nothing is"
        aria-invalid={wrong}
        defaultValue={value ?? ""}
        placeholder="infinite"
        inputMode="decimal"
        disabled={!writable}
        className="h-6 w-24 rounded-sm border border-line bg-raised px-2 font-mono placeholder:text-faint"
        onBlur={(event) => commit(event.target.value)}
        onKeyDown={(event) => {
          event.stopPropagation();
          if (event.key === "Enter") commit(event.currentTarget.value);
        }}
      />
      {wrong && <span className="ml-2 text-clay">a number or none</span>}
    </span>
  );
}
