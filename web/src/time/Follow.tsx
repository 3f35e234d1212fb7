import { useRef, useState } from "react";

import { type Problem, problemOf } from "@/api/client";
import { type Recipe, changeStep } from "@/api/recipe";
import { type ShapePath, pointsOf } from "@/benches/mattes/paths";
import { Button } from "@/parts/Button";
import { Choose } from "@/parts/Choose";
import { Message } from "@/parts/Message";
import { useDraft } from "@/shot/draft";

import { type Followed, MODELS, type Model, cornersOf, followed, joined } from "./following";
import { goTo, useTime } from "./timeState";

interface Props {
  shot: number;
  recipe: Recipe;
  /** The shape and its curve; as it is seen at the present frame. */
  step: string;
  index: number;
  path: ShapePath;
  /** The picture in which it is followed. */
  picture: string | null;
}

const TOLD: Record<Model, string> = {
  shift: "It moves, and does no more",
  similarity: "It moves, turns and changes its size",
  affine: "It is sheared and squeezed too",
  perspective: "A plane that turns in space",
};

/** Follows what a curve surrounds over the frames of the range, seen frame by frame, with a stop. */
export function Follow({ shot, recipe, step, index, path, picture }: Props) {
  const { frame, range } = useTime();
  const [model, setModel] = useState<Model>("similarity");
  const [search, setSearch] = useState(false);
  const [now, setNow] = useState<Followed | null>(null);
  const [busy, setBusy] = useState(false);
  const [problem, setProblem] = useState<Problem | null>(null);
  const [lost, setLost] = useState<number[]>([]);
  const stop = useRef<AbortController | null>(null);
  const points = pointsOf(path);
  const begin = async (by: 1 | -1) => {
    const end = by > 0 ? range[1] : range[0];
    const frames = Array.from({ length: Math.max(0, (end - frame) * by) }, (_, at) => frame + by * (at + 1));
    if (!picture || !frames.length) return;
    stop.current = new AbortController();
    setBusy(true);
    setProblem(null);
    setLost([]);
    const rows: Followed[] = [];
    try {
      const outline = cornersOf(points);
      await followed(
        { shot, recipe, address: picture, outline, start: frame, frames, model, search },
        stop.current.signal,
        (row) => {
          rows.push(row);
          setNow(row);
          // What was found so far is seen at once, and kept as one change at the end.
          put(rows, false);
          goTo(row.frame);
        },
      );
    } catch (error) {
      if (!stop.current.signal.aborted) setProblem(problemOf(error));
    }
    if (rows.length) useDraft.getState().settle();
    setLost(rows.filter((row) => !row.matrix).map((row) => row.frame));
    setBusy(false);
    setNow(null);
  };
  const start = frame;
  const put = (rows: Followed[], done: boolean) =>
    useDraft.getState().editKeys(
      (before) =>
        changeStep(before, step, (own) => ({
          ...own,
          set: {
            ...own.set,
            paths: ((own.set?.paths ?? []) as ShapePath[]).map((each, at) =>
              at === index ? { ...each, movement: joined(path.movement, start, rows) } : each,
            ),
          },
        })),
      done,
    );
  const forget = () =>
    useDraft.getState().editKeys((before) =>
      changeStep(before, step, (own) => ({
        ...own,
        set: {
          ...own.set,
          paths: ((own.set?.paths ?? []) as ShapePath[]).map((each, at) => {
            if (at !== index) return each;
            const { movement: _, ...rest } = each;
            return rest;
          }),
        },
      })),
    );
  if (range[1] <= range[0] || points.length < 3) return null;
  return (
    <div role="group" aria-label="Follow" className="space-y-1.5 border-t border-line pt-2">
      <div className="grid grid-cols-[84px_1fr] items-center gap-2">
        <span
          className="text-dim"
          title={`What the curve surrounds in ${picture ?? "its picture"} is followed`}
        >
          Follow
        </span>
        <div className="flex items-center gap-1">
          {busy ? (
            <>
              <Button onClick={() => stop.current?.abort()}>Stop</Button>
              <span role="status" className="font-mono text-[11px] text-dim">
                {now ? `frame ${now.frame}, sure ${now.sure.toFixed(2)}` : "beginning"}
              </span>
            </>
          ) : (
            <>
              <Button onClick={() => void begin(-1)} disabled={!picture || frame <= range[0]}>
                back
              </Button>
              <Button onClick={() => void begin(1)} disabled={!picture || frame >= range[1]}>
                on
              </Button>
              <Choose
                label="Model of its movement"
                title={TOLD[model]}
                value={model}
                options={[...MODELS]}
                onChange={(next) => setModel(next as Model)}
                className="w-26"
              />
            </>
          )}
        </div>
      </div>
      {!busy && (
        <div className="flex items-center justify-between pl-[92px]">
          <label
            className="flex items-center gap-1.5 text-dim"
            title="Where it is lost, look for it in the whole picture"
          >
            <input type="checkbox" checked={search} onChange={(event) => setSearch(event.target.checked)} />
            look again if lost
          </label>
          {path.movement && (
            <Button quiet onClick={forget} title="The curve stands still again, or moves by its keys alone">
              Forget
            </Button>
          )}
        </div>
      )}
      {lost.length > 0 && !busy && (
        <p role="status" className="text-clay">
          lost at {lost.slice(0, 6).join(", ")}
          {lost.length > 6 && ` and ${lost.length - 6} more`}: set it right there, and follow on
        </p>
      )}
      {problem && <Message problem={problem} />}
    </div>
  );
}
