import { Film, Pause, Play, RotateCcw, Square } from "lucide-react";
import { useState } from "react";

import type { DeliverableRow } from "@/api/client";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";
import { runsOf, worded } from "@/shot/sequences";
import { useTime } from "@/time/timeState";

type Render = NonNullable<DeliverableRow["render"]>;
export type Wish = "pause" | "cancel" | "resume" | "again" | "older";

interface Props {
  shot: number;
  name: string;
  render: Render;
  writable: boolean;
  onWish: (wish: Wish, frame?: number) => void;
  /** Have a review movie made, at so many frames a second. */
  onMovie: (rate: number) => void;
}

const MAKING = ["waiting", "rendering"];

const LOOK: Record<string, string> = {
  waiting: "bg-line",
  rendering: "bg-clay",
  done: "bg-lichen",
  failed: "bg-ember",
};

/** A render of many frames: a cell for each, how long it will take, and what can be done about it. */
export function Frames({ shot, name, render, writable, onWish, onMovie }: Props) {
  const rate = useTime((time) => time.rate);
  const [watching, setWatching] = useState(false);
  const making = MAKING.includes(render.movie?.state ?? "");
  const { frames, state } = render;
  const done = frames.filter((frame) => frame.state === "done");
  const lost = done.filter((frame) => !frame.kept);
  const older = done.filter((frame) => frame.older).map((frame) => frame.frame);
  const failed = frames.filter((frame) => frame.state === "failed");
  const warned = frames.filter((frame) => frame.warnings.length > 0);
  const busy = state === "waiting" || state === "rendering";
  const left = timeLeft(render);
  return (
    <div className="space-y-2 px-2 pb-3 pt-1" aria-label={`Frames of ${name}`} role="group">
      <div className="flex items-center gap-2">
        <span role="status" className="font-mono text-[11px] text-dim">
          {done.length} of {frames.length} frames
          {older.length > 0 && (
            <span className="text-clay">
              , {older.length} made from older frames: {rangesOf(older)}
            </span>
          )}
          {lost.length > 0 && <span className="text-clay">, {lost.length} not kept: render again</span>}
          {failed.length > 0 && <span className="text-ember">, {failed.length} failed</span>}
          {warned.length > 0 && <span className="text-clay">, {warned.length} with warnings</span>}
          {busy && left !== null && `, ${timeWorded(left)} left`}
        </span>
        <span className="grow" />
        {writable && !busy && older.length > 0 && <OlderAgain onWish={onWish} />}
        {render.movie?.state === "done" && (
          <Button lit={watching} onClick={() => setWatching(!watching)}>
            Review
          </Button>
        )}
        {making && (
          <span role="status" className="text-dim">
            making the movie
          </span>
        )}
        {writable && !busy && !making && done.length - lost.length > 1 && (
          <Button
            title="A movie of the frames that are done, each with its number, to be looked at here or sent"
            onClick={() => {
              setWatching(true);
              onMovie(rate);
            }}
          >
            <Film size={12} /> {render.movie ? "Movie again" : "Review movie"}
          </Button>
        )}
        {writable && busy && (
          <Button onClick={() => onWish("pause")} title="Finish the present frame, then wait">
            <Pause size={12} /> Pause
          </Button>
        )}
        {writable &&
          (state === "paused" || state === "cancelled" || (state === "failed" && failed.length > 0)) && (
            <Button onClick={() => onWish("resume")} title="Render the frames that are not done">
              <Play size={12} /> {state === "failed" ? "Failed ones again" : "Go on"}
            </Button>
          )}
        {writable && (busy || state === "paused") && (
          <Button onClick={() => onWish("cancel")} title="Stop for good; frames that are done stay">
            <Square size={12} /> Cancel
          </Button>
        )}
      </div>
      <div className="flex flex-wrap gap-px" role="list">
        {frames.map((frame) => {
          const gone = frame.state === "done" && !frame.kept;
          const state = frame.older ? "made from older frames" : (frame.error?.message ?? frame.state);
          const told = `frame ${frame.frame}: ${gone ? "was delivered; not kept" : state}`;
          const colour = gone ? "bg-line" : frame.older ? "bg-clay" : (LOOK[frame.state] ?? "bg-line");
          const look = `h-3 ${frames.length > 150 ? "w-1" : "w-2"} rounded-[1px] ${colour}`;
          return (
            <span role="listitem" key={frame.frame} data-state={frame.state} title={told} className="flex">
              {frame.kept ? (
                <a
                  href={`/api/shots/${shot}/renders/${render.id}/file?frame=${frame.frame}`}
                  download
                  aria-label={`Download frame ${frame.frame}`}
                  className={look}
                />
              ) : (
                <span className={look} aria-label={told} role="img" />
              )}
            </span>
          );
        })}
      </div>
      {render.movie?.problem && <Message problem={render.movie.problem} />}
      {render.movie?.state === "done" && watching && (
        <video
          controls
          loop
          autoPlay
          muted
          aria-label={`Review movie of ${name}`}
          src={`/api/shots/${shot}/renders/${render.id}/movie`}
          className="max-h-72 rounded-sm border border-line bg-stage"
        />
      )}
      {failed.slice(0, 8).map((frame) => (
        <div key={frame.frame} className="flex items-center gap-2 border-l-2 border-ember pl-2 text-[12px]">
          <span className="font-mono">{frame.frame}</span>
          <span className="min-w-0 grow text-ember">
            {[frame.error?.where, frame.error?.message].filter(Boolean).join(": ")}
            {frame.error?.remedy && <span className="text-dim">; {frame.error.remedy}</span>}
          </span>
          {writable && (
            <Button
              aria-label={`Render frame ${frame.frame} again`}
              onClick={() => onWish("again", frame.frame)}
            >
              <RotateCcw size={12} /> Again
            </Button>
          )}
        </div>
      ))}
      {warned.slice(0, 4).map((frame) => (
        <div key={frame.frame} className="flex gap-2 border-l-2 border-clay pl-2 text-[12px]">
          <span className="font-mono">{frame.frame}</span>
          <span className="min-w-0 grow text-clay">{frame.warnings.slice(0, 3).join("; ")}</span>
        </div>
      ))}
      {failed.length > 8 && <p className="text-[12px] text-dim">and {failed.length - 8} more</p>}
    </div>
  );
}

const rangesOf = (frames: number[]) => worded(runsOf(frames));

/** Only what is made of older frames is rendered; the others are taken over. */
export function OlderAgain({ onWish }: { onWish: (wish: Wish) => void }) {
  return (
    <Button title="Only these are rendered; the others are taken over" onClick={() => onWish("older")}>
      <RotateCcw size={12} /> Older ones again
    </Button>
  );
}

/** Seconds until a render will be done, from what its frames took; null where none is done yet. */
export function timeLeft({ frames }: Pick<Render, "frames">): number | null {
  const took = frames.filter((frame) => frame.state === "done").map((frame) => frame.seconds);
  if (!took.length) return null;
  const waiting = frames.filter((frame) => frame.state === "waiting" || frame.state === "rendering").length;
  // The last ones tell best how it goes now.
  const last = took.slice(-12);
  return (waiting * last.reduce((sum, each) => sum + each, 0)) / last.length;
}

export function timeWorded(seconds: number): string {
  if (seconds < 90) return `${Math.max(1, Math.round(seconds))} s`;
  return seconds < 5400 ? `${Math.round(seconds / 60)} min` : `${(seconds / 3600).toFixed(1)} h`;
}
