import { useRef, useState } from "react";

import { type Item, type Problem, api, got, problemOf } from "@/api/client";
import { drafted } from "@/api/recipe";
import type { components } from "@/api/schema";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";

import { goTo, useTime } from "./timeState";

type Row = components["schemas"]["SteadyRow"];
type Told = components["schemas"]["ToldRange"];

const AT_ONCE = 8;
const [WIDTH, HEIGHT] = [284, 48];

const WORDS = {
  steady: "Steady: no frame changes beyond what its picture's movement explains",
  flickers: "Flickers at",
  cannot_tell: "Cannot be told at",
};
const MOST_NAMED = 12;

/** How a matte changes over the range beyond what its picture does: bars to be clicked, and once all are there, words. */
export function Steadiness({ shot, item }: { shot: number; item: Item }) {
  const { range, frame } = useTime();
  const [rows, setRows] = useState<Row[]>([]);
  const [told, setTold] = useState<Told | null>(null);
  const [of, setOf] = useState("");
  const [busy, setBusy] = useState(false);
  const [problem, setProblem] = useState<Problem | null>(null);
  const stop = useRef<AbortController | null>(null);
  if (range[1] <= range[0]) return null;
  const address = item.plane ? item.name : `${item.name}.A`;
  const begin = async () => {
    stop.current = new AbortController();
    setBusy(true);
    setProblem(null);
    setOf(JSON.stringify([item.name, { ...item.of, at: 0 }]));
    const found: Row[] = [];
    setRows([]);
    setTold(null);
    try {
      for (let at = range[0]; at <= range[1]; at += AT_ONCE) {
        // The last frame of before is what the next one is compared with.
        const first = Math.max(range[0], at - 1);
        const frames = Array.from(
          { length: Math.min(range[1], at + AT_ONCE - 1) - first + 1 },
          (_, by) => first + by,
        );
        const more = await got(
          api.POST("/api/shots/{shot_id}/steady", {
            params: { path: { shot_id: shot } },
            body: { ...drafted(item.of), address, frames },
            signal: stop.current.signal,
          }),
        );
        found.push(...more.slice(found.length ? 1 : 0));
        setRows([...found]);
      }
      // Only of the whole range something can be said: what stands out is known by all the others.
      setTold(
        await got(
          api.POST("/api/shots/{shot_id}/steadiness", {
            params: { path: { shot_id: shot } },
            body: { rows: found },
            signal: stop.current.signal,
          }),
        ),
      );
    } catch (error) {
      if (!stop.current.signal.aborted) setProblem(problemOf(error));
    }
    setBusy(false);
  };
  const old = rows.length > 0 && of !== JSON.stringify([item.name, { ...item.of, at: 0 }]);
  const most = Math.max(1e-4, ...rows.map((row) => row.common ?? 0));
  const framesThat = (verdict: Told["verdict"]) =>
    rows.flatMap((row, index) => (told?.verdicts[index] === verdict ? [row.frame] : []));
  const [flickering, untold] = [framesThat("flickers"), framesThat("cannot_tell")];
  const count = range[1] - range[0] + 1;
  const x = (at: number) => ((at - range[0] + 0.5) / count) * WIDTH;
  return (
    <div role="group" aria-label="Steadiness" className="border-t border-line pt-2">
      <div className="flex items-center justify-between gap-2">
        <span
          className="text-dim"
          title="What changes near its edges from frame to frame beyond what the picture's movement asks"
        >
          Steadiness
        </span>
        {busy ? (
          <Button onClick={() => stop.current?.abort()}>Stop</Button>
        ) : (
          <Button onClick={() => void begin()}>
            {rows.length ? "Judge again" : `Judge frames ${range[0]} to ${range[1]}`}
          </Button>
        )}
      </div>
      {rows.length > 0 && (
        <>
          <svg
            viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
            className={`mt-1 block w-full rounded-sm border border-line bg-well ${old ? "opacity-50" : ""}`}
            role="img"
            aria-label={`Change and coverage of ${item.name} over time`}
          >
            <line x1={x(frame)} x2={x(frame)} y1={0} y2={HEIGHT} stroke="var(--lichen)" strokeWidth={0.7} />
            {rows.map((row) => {
              const height = ((row.common ?? 0) / most) * (HEIGHT - 4);
              const blind = row.common === null && row.frame !== range[0];
              return (
                <rect
                  key={row.frame}
                  x={x(row.frame - 0.5)}
                  width={Math.max(1, WIDTH / count - 0.6)}
                  y={HEIGHT - (blind ? 3 : height)}
                  height={blind ? 3 : height}
                  fill={
                    untold.includes(row.frame) || blind
                      ? "var(--line)"
                      : flickering.includes(row.frame)
                        ? "var(--clay)"
                        : "var(--faint)"
                  }
                  className="cursor-pointer"
                  onClick={() => goTo(row.frame)}
                >
                  <title>{barOf(row)}</title>
                </rect>
              );
            })}
            <polyline
              points={rows.map((row) => `${x(row.frame)},${(1 - row.coverage) * (HEIGHT - 4) + 2}`).join(" ")}
              fill="none"
              stroke="var(--alpha)"
              strokeWidth={1}
              className="pointer-events-none"
            />
          </svg>
          <div className="mt-1 space-y-0.5 text-[11px] text-dim" role="status">
            {told?.verdict === "steady" && <p className="text-lichen">{WORDS.steady}</p>}
            <Named words={WORDS.flickers} frames={flickering} tone="text-clay" />
            <Named words={WORDS.cannot_tell} frames={untold} tone="" />
            {!told && (
              <p>
                {busy ? `judged ${rows.length} of ${count} frames` : "stopped before the end: no verdict"}
              </p>
            )}
            {old && <p className="text-clay">judged before the last change</p>}
          </div>
        </>
      )}
      {problem && <Message problem={problem} />}
    </div>
  );
}

function barOf(row: Row): string {
  const part = (value: number | null) => value?.toFixed(4) ?? "not known";
  return (
    `frame ${row.frame}: edges change by ${part(row.flicker)}, of it ${part(row.common)} together; ` +
    `${Math.round(100 * row.judged)} % of them judged; where nothing moved ${part(row.change)}; coverage ${part(row.coverage)}`
  );
}

/** Frames to go to, the first dozen of them. */
function Named({ words, frames, tone }: { words: string; frames: number[]; tone: string }) {
  if (!frames.length) return null;
  return (
    <p className={`flex flex-wrap items-center gap-1 ${tone}`}>
      {words}
      {frames.slice(0, MOST_NAMED).map((each) => (
        <Button key={each} quiet className="h-5! px-1! font-mono" onClick={() => goTo(each)}>
          {each}
        </Button>
      ))}
      {frames.length > MOST_NAMED && ` and ${frames.length - MOST_NAMED} more`}
    </p>
  );
}
