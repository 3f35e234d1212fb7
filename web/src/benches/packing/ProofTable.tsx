import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { type Item, api, got, problemOf } from "@/api/client";
import { isSame, keepWhileSame, onceMore } from "@/api/queries";
import { drafted } from "@/api/recipe";
import type { components } from "@/api/schema";
import { Button } from "@/parts/Button";
import { Choose } from "@/parts/Choose";
import { Message } from "@/parts/Message";
import { useSettled } from "@/parts/useSettled";

import { usePackingView } from "./packingView";
import { ReadBack } from "./ReadBack";

type Row = components["schemas"]["ProofRow"];
type ProofAsk = components["schemas"]["ProofAsk"];

const FORMATS = ["png 8", "png 16", "tga 8", "tiff 16", "tiff float", "exr half", "exr float"] as const;
/** A rounding is half a code at most; what float arithmetic adds to that is no fault. */
const ROUNDING = 0.501;
/** Pixels of a texture that is proven again with every change. */
const AT_ONCE = 4096 * 4096;

interface Props {
  shot: number;
  pack: Item;
  meanings: Record<string, string>;
}

/** What each channel would hold in a file against what is meant, and whether a file gives it back. */
export function ProofTable({ shot, pack, meanings }: Props) {
  const view = usePackingView();
  const settled = useSettled(pack, 350);
  const [format, depth] = view.format.split(" ") as [ProofAsk["format"], string];
  // A large texture is proven when it is asked for: it takes seconds.
  const large = (pack.display?.[2] ?? 0) * (pack.display?.[3] ?? 0) > AT_ONCE;
  const [asked, setAsked] = useState("");
  const wanted = !large || asked === `${pack.digest} ${view.format} ${view.dither}`;
  const dither = depth === "8" ? view.dither : "none";
  const ask = { ...drafted(settled.of), address: settled.name, format, depth, dither };
  const answer = useQuery({
    queryKey: ["proof", shot, pack.name, settled.digest, format, depth, dither],
    queryFn: ({ signal }) =>
      got(api.POST("/api/shots/{shot_id}/proof", { params: { path: { shot_id: shot } }, body: ask, signal })),
    enabled: wanted && pack.digest !== "" && isSame(settled, pack),
    placeholderData: keepWhileSame(2, pack.name),
    staleTime: Infinity,
    gcTime: 30_000,
    retry: onceMore,
    retryDelay: 250,
  });
  const rows = wanted ? answer.data : undefined;
  const faults = rows?.filter((row) => faultOf(row, dither) !== null) ?? [];
  return (
    <section aria-label="Proof" className="space-y-2 text-[12px]">
      <header className="flex items-baseline justify-between gap-2">
        <h3 className="text-[13px] font-semibold">Proof</h3>
        {rows && (
          <span
            role="status"
            className={`font-mono text-[11px] ${faults.length ? "text-clay" : "text-lichen"}`}
          >
            {faults.length
              ? `${faults.map((row) => row.name).join(", ")}: look below`
              : "all values as meant"}
          </span>
        )}
      </header>
      <div className="flex gap-1">
        <Choose
          label="Proven for"
          value={view.format}
          options={FORMATS}
          onChange={(next) => view.change({ format: next as (typeof FORMATS)[number] })}
          className="w-26"
        />
        {depth === "8" && (
          <Choose
            label="Dither"
            value={view.dither}
            options={[
              { value: "none", label: "rounded" },
              { value: "ordered", label: "ordered dither" },
              { value: "diffusion", label: "error diffusion" },
            ]}
            onChange={(next) => view.change({ dither: next as typeof view.dither })}
            className="w-32"
          />
        )}
      </div>
      {!wanted && (
        <Button onClick={() => setAsked(`${pack.digest} ${view.format} ${view.dither}`)}>
          Prove every value
        </Button>
      )}
      {answer.isFetching && !rows && <p className="text-dim">Proving every value</p>}
      {answer.isError && problemOf(answer.error).code !== "pending" && (
        <Message problem={problemOf(answer.error)} />
      )}
      {rows && (
        <table className="w-full border-collapse text-right font-mono text-[11px]">
          <thead className="text-faint">
            <tr>
              <th className="py-0.5 text-left font-sans font-normal">channel</th>
              <th className="font-sans font-normal">{rows[0]?.most ? "codes" : "values"}</th>
              <th className="font-sans font-normal">largest error</th>
              <th className="font-sans font-normal">mean</th>
              <th className="font-sans font-normal">clipped</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((row) => (
              <tr key={row.name} className={faultOf(row, dither) ? "text-clay" : ""}>
                <td className="py-0.5 text-left" title={meantOf(row)}>
                  {row.name} <span className="font-sans text-[12px]">{meanings[row.name] ?? ""}</span>
                </td>
                <td>{endsOf(row)}</td>
                <td>{errorOf(row.largest, row.most)}</td>
                <td>{row.most ? row.mean.toFixed(2) : errorOf(row.mean, row.most)}</td>
                <td>{row.clipped === 0 ? "0" : `${(row.clipped * 100).toFixed(2)} %`}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {rows?.map((row) => {
        const fault = faultOf(row, dither);
        return fault ? (
          <p key={row.name} className="border-l-2 border-clay pl-2 text-clay">
            {row.name}: {fault}
          </p>
        ) : row.unused && row.unused > 1 && row.first !== row.last ? (
          <p key={row.name} className="border-l-2 border-line pl-2 text-dim">
            {row.name} needs {row.bits - row.unused} of its {row.bits} bits
          </p>
        ) : null;
      })}
      {/* Keyed, so that what was read back is not told of a texture that has changed since. */}
      <ReadBack key={`read back ${pack.digest} ${view.format} ${dither}`} shot={shot} ask={ask} />
    </section>
  );
}

function faultOf(row: Row, dither: string): string | null {
  if (row.bent.length)
    return `${row.bent.join(", ")} is read as colour: its numbers arrive bent, and the file holds them so`;
  if (row.clipped > 0)
    return `values from ${row.low?.toFixed(3)} to ${row.high?.toFixed(3)} do not fit; ${(row.clipped * 100).toFixed(2)} % are clipped`;
  if (row.most && row.largest > (dither === "none" ? ROUNDING : 1.001))
    return `up to ${row.largest.toFixed(2)} codes off`;
  return null;
}

function meantOf(row: Row): string {
  return row.low === null || row.high === null
    ? "no number"
    : `meant: ${row.low.toFixed(4)} to ${row.high.toFixed(4)}`;
}

function endsOf(row: Row): string {
  if (row.first === null || row.last === null) return "none";
  return row.most ? `${row.first}–${row.last}` : `${row.first.toFixed(3)}–${row.last.toFixed(3)}`;
}

function errorOf(error: number, most: number | null | undefined): string {
  return most ? `${error.toFixed(2)}/${most}` : error === 0 ? "0" : error.toExponential(1);
}
