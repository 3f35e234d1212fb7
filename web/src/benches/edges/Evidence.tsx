import type { Item } from "@/api/client";
import { useEvidence } from "@/stage/planes";
import { SmallPicture } from "@/stage/SmallPicture";

import type { Diagnosed } from "./DiagnosisPanel";
import { Swatch } from "@/parts/Swatch";
import { percent } from "@/parts/percent";

interface Figures {
  soft?: number;
  tiles?: number;
  likelihood?: Record<string, number>;
  brighter?: number;
  under?: { share: number; colour: number[] };
  scene?: { backing: number[]; spread: number[] };
  display?: { backing: number[]; spread: number[] };
}

const EXPLANATIONS = [
  ["straight", "colour of its own"],
  ["scene", "mixed, linear"],
  ["display", "mixed, encoded"],
] as const;

const CHANNELS = ["bg-red", "bg-green", "bg-blue"];

interface Seen {
  shot: number;
  item: Item;
  /** An alpha that came apart from the picture. */
  alpha: string | undefined;
}

interface Props extends Seen {
  answer: Diagnosed;
  /** Whether it is spread out at first. */
  open: boolean;
}

/** The figures behind a verdict: how likely each explanation is, and what the soft pixels tend to. */
export function Evidence({ answer, open, ...seen }: Props) {
  const figures = answer.figures as Figures;
  if (figures.soft === undefined) return null;
  const likelihood = figures.likelihood;
  const values = Object.values(likelihood ?? {});
  const best = Math.max(...values);
  const row = answer.domain ? figures[answer.domain as "scene" | "display"] : undefined;
  return (
    <details open={open} className="group">
      <summary className="cursor-pointer list-none text-dim hover:text-text">
        <span className="inline-block w-3 transition-transform group-open:rotate-90">›</span> Evidence
      </summary>
      <div className="mt-1.5 space-y-1.5">
        {likelihood &&
          EXPLANATIONS.map(([key, words]) => {
            const value = likelihood[key] ?? best;
            return (
              <div key={key} className="grid grid-cols-[112px_1fr_44px] items-center gap-2">
                <span className="truncate text-dim">{words}</span>
                <span className="h-1.5 rounded-full bg-well" aria-hidden>
                  <span
                    className={`block h-full rounded-full ${value === best ? "bg-lichen" : "bg-faint"}`}
                    style={{ width: `${Math.max(3, 100 * Math.exp(2 * (value - best)))}%` }}
                  />
                </span>
                <span className="text-right font-mono text-[11px] text-dim">
                  {value === best ? "best" : (value - best).toFixed(2)}
                </span>
              </div>
            );
          })}
        {row && (
          <div
            className="grid grid-cols-[112px_1fr] items-center gap-2"
            title="Backing colour that the soft pixels tend to, and its spread"
          >
            <span className="text-dim">soft pixels tend to</span>
            <span className="relative h-5 rounded-sm bg-well" aria-hidden>
              {row.backing.map((value, index) => {
                const spread = Math.max(0.006, row.spread[index] ?? 0);
                return (
                  <span
                    key={index}
                    className={`absolute h-1 rounded-full ${CHANNELS[index] ?? "bg-alpha"}`}
                    style={{
                      top: `${3 + index * 5}px`,
                      left: `${100 * Math.min(0.98, Math.max(0, value - spread / 2))}%`,
                      width: `${Math.max(2, 100 * spread)}%`,
                    }}
                  />
                );
              })}
            </span>
          </div>
        )}
        <div className="grid grid-cols-2 gap-2">
          <Small {...seen} evidence="brighter" caption="brighter than alpha" />
          <Small {...seen} evidence="under" caption="held where clear" />
        </div>
        <p className="font-mono text-[11px] leading-[16px] text-dim">
          {percent(figures.soft)} soft
          {figures.brighter !== undefined &&
            figures.soft > 0 &&
            ` · ${percent(figures.brighter)} of it brighter than alpha`}
        </p>
        {figures.under && figures.under.share > 0 && (
          <p className="flex items-center gap-1.5 font-mono text-[11px] text-dim">
            {figures.under.share < 0.995 && percent(figures.under.share)} clear pixels hold
            <Swatch values={figures.under.colour} encoded={false} />
          </p>
        )}
      </div>
    </details>
  );
}

function Small({
  shot,
  item,
  alpha,
  evidence,
  caption,
}: Seen & { evidence: "brighter" | "under"; caption: string }) {
  const planes = useEvidence(shot, item, item.name, evidence, alpha);
  return (
    <figure>
      <SmallPicture
        planes={planes.data}
        error={planes.error}
        label={caption}
        className="h-16 w-full border border-line"
      />
      <figcaption className="mt-0.5 truncate text-[11px] text-faint">{caption}</figcaption>
    </figure>
  );
}
