import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { type KeyboardEvent, type PointerEvent, useRef } from "react";

import { type Item, api, got } from "@/api/client";
import { type Recipe, type Step, portOf, drafted } from "@/api/recipe";
import { pickLevel } from "@/steps/picking";
import { Button } from "@/parts/Button";
import { useMarksOf } from "@/shot/marks";
import { useView } from "@/stage/viewState";

import { type Slope, middleAt, transfer } from "./slope";
import { useThinParts } from "./useThinParts";

const WIDTH = 296;
const HEIGHT = 126;
const PAD = 7;

interface Props {
  shot: number;
  recipe: Recipe;
  step: Step;
  items: Item[];
  onSet: (values: Record<string, number>, done: boolean) => void;
}

type Post = "black" | "middle" | "white";

/** The values of the input as a skyline, the transfer line above, and three posts to drag: black, middle, white. */
export function SlopePlot({ shot, recipe, step, items, onSet }: Props) {
  const set = step.set ?? {};
  const number = (name: string, standard: number) => (typeof set[name] === "number" ? set[name] : standard);
  const slope: Slope = {
    black: number("black", 0),
    white: number("white", 1),
    middle: number("middle", 0.5),
    outBlack: number("out_black", 0),
    outWhite: number("out_white", 1),
    clip: set.clip !== false,
  };
  const domain = set.domain === "scene" ? "scene" : "display";
  const address = portOf(step, "from");
  const marks = useMarksOf(step.name);
  const thin = useThinParts(shot, step, items);
  const picking = useView((state) => state.pick?.label);
  const plot = useRef<SVGSVGElement>(null);
  const held = useRef<Post | null>(null);
  const source = items.find((item) => item.name === address?.split(".")[0]);
  const sound = address !== undefined && source !== undefined && !source.problem;
  // The plot runs from 0 to 1, in quarters further where a post stands near or beyond its end.
  const quarter = (value: number, up: 1 | -1) => (Math.floor(value * 4 * up) / 4) * up + 0.25 * up;
  const least = Math.min(slope.black, slope.white);
  const most = Math.max(slope.black, slope.white);
  const low = least < 0 ? quarter(least, -1) : 0;
  const high = most > 1 ? quarter(most, 1) : 1;
  const histogram = useQuery({
    queryKey: ["histogram", shot, source?.digest, address, domain, marks, low, high],
    queryFn: () =>
      got(
        api.POST("/api/shots/{shot_id}/histogram", {
          params: { path: { shot_id: shot } },
          body: {
            ...drafted(recipe),
            address: address!,
            domain,
            bins: 148,
            low,
            high,
            marks,
          },
        }),
      ),
    enabled: sound,
    placeholderData: keepPreviousData,
    staleTime: Infinity,
  });

  const toX = (value: number) => PAD + ((value - low) / (high - low)) * (WIDTH - 2 * PAD);
  const toY = (out: number) => HEIGHT - PAD - Math.min(1.1, Math.max(-0.1, out)) * (HEIGHT - 2 * PAD);
  const fromX = (x: number) => low + ((x - PAD) / (WIDTH - 2 * PAD)) * (high - low);

  const put = (post: Post, value: number, done: boolean) => {
    const rounded = Math.round(value * 1000) / 1000;
    if (post === "middle") {
      const t = (value - slope.black) / (slope.white - slope.black);
      onSet({ middle: Math.round(Math.min(0.99, Math.max(0.01, t)) * 1000) / 1000 }, done);
    } else if (rounded !== (post === "black" ? slope.white : slope.black)) onSet({ [post]: rounded }, done);
  };
  const follow = (event: PointerEvent<SVGElement>, done: boolean) => {
    if (!held.current || !plot.current) return;
    const box = plot.current.getBoundingClientRect();
    put(held.current, fromX(((event.clientX - box.left) / box.width) * WIDTH), done);
  };
  const nudge = (post: Post) => (event: KeyboardEvent) => {
    const turn =
      event.key === "ArrowRight" || event.key === "ArrowUp"
        ? 1
        : event.key === "ArrowLeft" || event.key === "ArrowDown"
          ? -1
          : 0;
    if (!turn) return;
    event.preventDefault();
    event.stopPropagation();
    const now = post === "middle" ? middleAt(slope) : slope[post];
    put(post, now + turn * (event.shiftKey ? 0.001 : 0.01), true);
  };
  const pick = (post: "black" | "white") =>
    pickLevel({ shot, recipe, items, address }, `what becomes ${post}`, domain, (value) =>
      put(post, value, true),
    );

  const line = Array.from({ length: 97 }, (_, index) => {
    const value = low + (index / 96) * (high - low);
    return `${index ? "L" : "M"}${toX(value).toFixed(1)} ${toY(transfer(slope, value)).toFixed(1)}`;
  }).join("");
  const data = histogram.data;
  const skylines =
    data?.subject && data.background
      ? [
          { side: "background", counts: data.background, fill: "#8c8c8c" },
          { side: "subject", counts: data.subject, fill: "#f2f2f2" },
        ]
      : [{ side: "whole", counts: data?.counts ?? [], fill: "#a6a6a6" }];
  const posts: [Post, number, number][] = [
    ["black", slope.black, slope.outBlack],
    ["middle", middleAt(slope), (slope.outBlack + slope.outWhite) / 2],
    ["white", slope.white, slope.outWhite],
  ];
  return (
    <div>
      <svg
        ref={plot}
        viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
        className="block w-full touch-none border border-line bg-[#121212]"
        role="group"
        aria-label="Slope plot"
      >
        {skylines.map(({ side, counts, fill }) => {
          const tallest = Math.max(1, ...counts.slice(1, -1));
          return counts.map((count, index) => {
            const value = low + ((index + 0.5) / counts.length) * (high - low);
            const height = Math.min(1, Math.sqrt(count / tallest)) * (HEIGHT - 2 * PAD) * 0.55;
            const width = (WIDTH - 2 * PAD) / counts.length;
            return height < 0.3 ? null : (
              <rect
                key={`${side} ${index}`}
                data-skyline={side}
                x={toX(value) - width * 0.4}
                width={width * 0.8}
                y={HEIGHT - PAD - height}
                height={height}
                fill={fill}
                fillOpacity={0.4 + 0.6 * Math.min(1, Math.max(0, transfer(slope, value)))}
              />
            );
          });
        })}
        {(["black", "white"] as const).map((post) => (
          <line
            key={post}
            x1={toX(slope[post])}
            x2={toX(slope[post])}
            y1={PAD}
            y2={HEIGHT - PAD}
            stroke="#b7d36b"
            strokeDasharray="2 3"
            strokeWidth={1}
          />
        ))}
        <path d={line} fill="none" stroke="#b7d36b" strokeWidth={1.5} />
        {posts.map(([post, value, out]) => (
          <circle
            key={post}
            cx={toX(value)}
            cy={toY(out)}
            r={post === "middle" ? 4 : 5}
            fill={post === "middle" ? "#b7d36b" : "#121212"}
            stroke="#b7d36b"
            strokeWidth={1.6}
            role="slider"
            tabIndex={0}
            aria-label={`${post} post`}
            aria-valuenow={Number(value.toFixed(3))}
            className="cursor-ew-resize outline-none focus-visible:[stroke-width:3]"
            onPointerDown={(event) => {
              held.current = post;
              event.currentTarget.setPointerCapture(event.pointerId);
            }}
            onPointerMove={(event) => follow(event, false)}
            onPointerUp={(event) => {
              follow(event, true);
              held.current = null;
            }}
            onKeyDown={nudge(post)}
          />
        ))}
      </svg>
      <div className="mt-2 flex items-center gap-2 text-[12px] text-dim">
        Pick
        {(["black", "white"] as const).map((post) => (
          <Button
            key={post}
            disabled={!sound}
            lit={picking === `what becomes ${post}`}
            onClick={() => pick(post)}
          >
            {post}
          </Button>
        ))}
        {thin && thin.lost > 0 ? (
          <span role="status" className="ml-auto font-mono text-[11px] text-clay">
            {thin.lost} thin {thin.lost === 1 ? "part" : "parts"} lost
          </span>
        ) : (
          <span className="ml-auto font-mono text-[11px] text-faint">
            {thin?.thin ? `${thin.thin} thin ${thin.thin === 1 ? "part" : "parts"} kept` : ""}
          </span>
        )}
      </div>
    </div>
  );
}
