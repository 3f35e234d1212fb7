import type { Recipe } from "@/api/recipe";
import { useVariant } from "@/stage/planes";
import { SmallPicture } from "@/stage/SmallPicture";

import type { Candidate } from "./useScout";

interface Props {
  id: string;
  shot: number;
  row: Candidate;
  draft: { recipe: Recipe; address: string } | null;
  /** What the picture was computed from. */
  digest: string;
  lit: boolean;
  onTake: () => void;
}

/** Noise of a fiftieth of the way from black to white leaves half of the bar; a clean matte fills it. */
const quiet = (noise: number) => 1 / (1 + 50 * noise);

/** One candidate: its live picture, how it is made in words, and three bars. */
export function CandidateRow({ id, shot, row, draft, digest, lit, onTake }: Props) {
  const planes = useVariant(shot, draft, `${digest} ${JSON.stringify(row.steps)}`);
  const [what, how] = row.words.split(", ");
  const bars = [
    [
      "separation",
      row.separation * 2 - 1,
      "bg-lichen",
      `separates ${(row.separation * 100).toFixed(2)} of 100 pairs`,
    ],
    [
      "edge kept",
      row.edge_kept,
      "bg-blue",
      `keeps ${Math.round(row.edge_kept * 100)} % of the edges' gradient`,
    ],
    ["quiet", quiet(row.noise), "bg-dim", `noise ${row.noise.toFixed(4)} of white`],
  ] as const;
  return (
    <div
      id={id}
      role="option"
      aria-selected={lit}
      aria-label={`${row.words}, separation ${(row.separation * 100).toFixed(1)}`}
      onClick={onTake}
      className={`grid h-full cursor-default grid-cols-[72px_1fr] items-center gap-2.5 border-l-2 pl-2.5 pr-3 ${lit ? "border-lichen bg-raised" : "border-transparent"}`}
    >
      <SmallPicture
        planes={planes.data}
        error={planes.error}
        look={{ backing: { kind: "none" } }}
        label={row.words}
        className="h-[42px] w-[72px] border border-line"
      />
      <div className="min-w-0">
        <div className="flex items-baseline justify-between gap-2 leading-tight">
          <span className="truncate" title={row.words}>
            {what}
          </span>
          <span className="font-mono text-dim">{(row.separation * 100).toFixed(1)}</span>
        </div>
        <div className="truncate text-[11px] leading-tight text-dim">
          {how ?? "one channel"}
          {row.direction === "dark" ? ", turned round" : ""}
        </div>
        <div className="mt-1.5 grid grid-cols-3 gap-1.5">
          {bars.map(([label, part, colour, title]) => (
            <span key={label} title={`${label}: ${title}`} className="h-[3px] rounded-full bg-line">
              <span
                className={`block h-full rounded-full ${colour}`}
                style={{ width: `${Math.round(Math.min(1, Math.max(0, part)) * 100)}%` }}
              />
            </span>
          ))}
        </div>
      </div>
    </div>
  );
}
