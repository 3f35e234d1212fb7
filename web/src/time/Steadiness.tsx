import { useRef, useState } from "react";

import { type Item, type Problem, api, got, problemOf } from "@/api/client";
import { drafted } from "@/api/recipe";
import type { components } from "@/api/schema";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";

import { goTo, useTime } from "./timeState";

type Row = components["schemas"]["SteadyRow"];

const AT_ONCE = 8;
const [WIDTH, HEIGHT] = [284, 48];

/** The frames whose change stands out: more than twice the usual, five at the most. */
export function worstOf(rows: readonly Pick<Row, "frame" | "change">[]): number[] {
  const changes = rows.flatMap((row) => (row.change === null ? [] : [row.change])).sort((a, b) => a - b);
  const middle = changes.length / 2;
  const usual = changes.length ? (changes[Math.floor(middle)]! + changes[Math.ceil(middle) - 1]!) / 2 : 0;
  return [...rows]
    .filter((row) => row.change !== null && row.change > Math.max(2 * usual, 1e-4))
    .sort((a, b) => b.change! - a.change!)
    .slice(0, 5)
    .map((row) => row.frame);
}

const meanOf = (rows: readonly Pick<Row, "change">[]): number => {
  const changes = rows.flatMap((row) => (row.change === null ? [] : [row.change]));
  return changes.length ? changes.reduce((sum, change) => sum + change, 0) / changes.length : 0;
};

/** How a matte changes over the range where its picture does not: bars to be clicked. */
export function Steadiness({ shot, item }: { shot: number; item: Item }) {
  const { range, frame } = useTime();
  const [rows, setRows] = useState<Row[]>([]);
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
    } catch (error) {
      if (!stop.current.signal.aborted) setProblem(problemOf(error));
    }
    setBusy(false);
  };
  const old = rows.length > 0 && of !== JSON.stringify([item.name, { ...item.of, at: 0 }]);
  const most = Math.max(1e-4, ...rows.map((row) => row.change ?? 0));
  const worst = worstOf(rows);
  const count = range[1] - range[0] + 1;
  const x = (at: number) => ((at - range[0] + 0.5) / count) * WIDTH;
  return (
    <div role="group" aria-label="Steadiness" className="border-t border-line pt-2">
      <div className="flex items-center justify-between gap-2">
        <span
          className="text-dim"
          title="Its change from frame to frame where the picture moves less than its noise"
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
            {rows.map((row) => (
              <rect
                key={row.frame}
                x={x(row.frame - 0.5)}
                width={Math.max(1, WIDTH / count - 0.6)}
                y={HEIGHT - ((row.change ?? 0) / most) * (HEIGHT - 4)}
                height={((row.change ?? 0) / most) * (HEIGHT - 4)}
                fill={worst.includes(row.frame) ? "var(--clay)" : "var(--faint)"}
                className="cursor-pointer"
                onClick={() => goTo(row.frame)}
              >
                <title>{`frame ${row.frame}: change ${row.change?.toFixed(5) ?? "not known"}, coverage ${row.coverage.toFixed(4)}`}</title>
              </rect>
            ))}
            <polyline
              points={rows.map((row) => `${x(row.frame)},${(1 - row.coverage) * (HEIGHT - 4) + 2}`).join(" ")}
              fill="none"
              stroke="var(--alpha)"
              strokeWidth={1}
              className="pointer-events-none"
            />
          </svg>
          <p className="mt-1 flex flex-wrap items-center gap-1 text-[11px] text-dim">
            mean change {meanOf(rows).toFixed(4)}; {worst.length ? "stands out:" : "no frame stands out"}
            {worst.map((each) => (
              <Button key={each} quiet className="h-5! px-1! font-mono" onClick={() => goTo(each)}>
                {each}
              </Button>
            ))}
            {old && <span className="text-clay">judged before the last change</span>}
          </p>
        </>
      )}
      {problem && <Message problem={problem} />}
    </div>
  );
}
