import { useQuery } from "@tanstack/react-query";

import { type Item, api, got, problemOf } from "@/api/client";
import { onceMore } from "@/api/queries";
import { drafted } from "@/api/recipe";
import { Message } from "@/parts/Message";
import { useView } from "@/stage/viewState";

import { previewed } from "./packs";

interface Props {
  shot: number;
  pack: Item;
  kind: "mip" | "blocks";
  level: number;
}

/** What a smaller mip level, or compression in blocks, takes from each channel. */
export function LossTable({ shot, pack, kind, level }: Props) {
  const arrivals = useView((state) => state.arrivals);
  const [draft, seen] = previewed(pack.of, pack.name, kind, level);
  const answer = useQuery({
    queryKey: ["losses", shot, pack.digest, kind, kind === "mip" ? level : 0, arrivals],
    queryFn: ({ signal }) =>
      got(
        api.POST("/api/shots/{shot_id}/losses", {
          signal,
          params: { path: { shot_id: shot } },
          body: { ...drafted(draft), address: pack.name, seen },
        }),
      ),
    enabled: pack.digest !== "",
    staleTime: Infinity,
    gcTime: 60_000,
    retry: onceMore,
    retryDelay: 250,
  });
  const problem = answer.isError ? problemOf(answer.error) : null;
  return (
    <section aria-label="Losses" className="space-y-2 text-[12px]">
      <h3 className="text-[13px] font-semibold">
        {kind === "mip" ? `What mip level ${level} loses` : "What blocks of 4×4 lose"}
      </h3>
      {answer.isPending && <p className="text-dim">Comparing every texel</p>}
      {problem &&
        (problem.code === "pending" ? (
          <p className="text-dim">Waiting until the blocks are made</p>
        ) : (
          <Message problem={problem} />
        ))}
      {answer.data && (
        <table className="w-full border-collapse text-right font-mono text-[11px]">
          <thead className="text-faint">
            <tr>
              <th className="py-0.5 text-left font-sans font-normal">channel</th>
              <th className="font-sans font-normal">largest</th>
              <th className="font-sans font-normal">mean</th>
              <th className="font-sans font-normal">PSNR</th>
            </tr>
          </thead>
          <tbody>
            {answer.data.map((row) => (
              <tr key={row.name}>
                <td className="py-0.5 text-left">{row.name}</td>
                <td>{codes(row.max)}</td>
                <td>{codes(row.mean)}</td>
                <td>{row.psnr === null ? "equal" : `${row.psnr.toFixed(1)} dB`}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <p className="text-faint">
        In codes of 255. Left of the line the {kind === "mip" ? "level" : "blocks"}.
      </p>
    </section>
  );
}

function codes(value: number | null): string {
  return value === null ? "not finite" : (value * 255).toFixed(2);
}
