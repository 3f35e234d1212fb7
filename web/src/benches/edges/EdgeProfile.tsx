import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { type Item, api, got, problemOf } from "@/api/client";
import { type Recipe, drafted, findStep, firstInput, itemOf } from "@/api/recipe";
import type { components } from "@/api/schema";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";
import { useSettled } from "@/parts/useSettled";
import { decode } from "@/stage/halves";
import { useView } from "@/stage/viewState";

import { useEdgeLine } from "./line";

type Row = components["schemas"]["ProfileRow"];

interface Props {
  shot: number;
  recipe: Recipe;
  items: Item[];
  picture: Item;
}

const WIDTH = 296;
const HEIGHT = 104;
const BACKDROPS = ["black", "white", "grey", "own"] as const;
const CURVES = [
  ["r", "stroke-red"],
  ["g", "stroke-green"],
  ["b", "stroke-blue"],
  ["a", "stroke-alpha"],
] as const;

/** Colour and alpha along a line across an edge: after as full lines, before as dashes, over a backdrop. */
export function EdgeProfile({ shot, recipe, items, picture }: Props) {
  const { line, drawing, put, draw } = useEdgeLine();
  const own = useView((state) => state.own);
  const [over, setOver] = useState<(typeof BACKDROPS)[number]>("white");
  const before = firstInput(findStep(recipe, picture.name));
  const known = before && items.find((entry) => entry.name === itemOf(before));
  const addresses = [picture.name, ...(known && !known.problem && !known.plane ? [before] : [])];
  const backdrop = backdropOf(over, own);
  const wish = JSON.stringify([line, addresses, over, own, items.map((entry) => entry.digest)]);
  const asked = useSettled(wish, 60);
  const profile = useQuery({
    queryKey: ["profile", shot, asked],
    queryFn: () =>
      got(
        api.POST("/api/shots/{shot_id}/profile", {
          params: { path: { shot_id: shot } },
          body: {
            ...drafted(picture.of),
            addresses,
            start: [line![0], line![1]],
            end: [line![2], line![3]],
            backdrop,
          },
        }),
      ),
    enabled: asked === wish && line !== null && Math.hypot(line[2] - line[0], line[3] - line[1]) >= 1,
    placeholderData: keepPreviousData,
    staleTime: Infinity,
    gcTime: 10_000,
    retry: false,
  });
  const rows = line ? profile.data : undefined;
  const length = line ? Math.hypot(line[2] - line[0], line[3] - line[1]) : 0;
  return (
    <section
      aria-label="Edge profile"
      className="shrink-0 space-y-2 border-b border-line px-3 pb-3 pt-2.5 text-[12px]"
    >
      <header className="flex items-baseline justify-between gap-2">
        <h2 className="text-[13px] font-semibold">Edge profile</h2>
        {line && (
          <span className="flex gap-0.5">
            {BACKDROPS.map((name) => (
              <Button
                key={name}
                quiet={over !== name}
                lit={over === name}
                className="h-5! px-1!"
                aria-label={`Profile over ${name}`}
                onClick={() => setOver(name)}
              >
                {name}
              </Button>
            ))}
          </span>
        )}
      </header>
      {profile.isError && line && <Message problem={problemOf(profile.error)} />}
      {rows ? (
        <Curves rows={rows} />
      ) : (
        <p className="text-dim">
          {drawing
            ? "Drag across an edge on the stage."
            : "Draw a line across an edge to see its colour along it."}
        </p>
      )}
      <div className="flex flex-wrap items-center gap-1">
        <Button lit={drawing} onClick={() => draw(!drawing)}>
          {line ? "Draw anew" : "Draw a line"}
        </Button>
        {line && (
          <Button quiet onClick={() => put(null)}>
            Remove
          </Button>
        )}
        {line && <span className="ml-auto font-mono text-[11px] text-dim">{length.toFixed(1)} px</span>}
      </div>
    </section>
  );
}

function backdropOf(name: (typeof BACKDROPS)[number], own: string): [number, number, number] {
  if (name === "black") return [0, 0, 0];
  if (name === "white") return [1, 1, 1];
  if (name === "grey") return [decode(0.5), decode(0.5), decode(0.5)];
  return [1, 3, 5].map((start) => decode(parseInt(own.slice(start, start + 2), 16) / 255)) as [
    number,
    number,
    number,
  ];
}

function Curves({ rows }: { rows: Row[] }) {
  const y = (value: number) => HEIGHT - 6 - Math.min(1.1, Math.max(-0.05, value)) * (HEIGHT - 18);
  const path = (values: number[]) =>
    values
      .map(
        (value, index) =>
          `${index ? "L" : "M"}${((index / (values.length - 1)) * WIDTH).toFixed(1)} ${y(value).toFixed(1)}`,
      )
      .join("");
  return (
    <figure className="space-y-1">
      <svg
        viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
        role="img"
        aria-label={`Colour along the line of ${rows.map((row) => row.address).join(", before: ")}`}
        className="w-full rounded-sm bg-well"
      >
        {[0, 0.5, 1].map((level) => (
          <line
            key={level}
            x1={0}
            x2={WIDTH}
            y1={y(level)}
            y2={y(level)}
            className="stroke-line"
            strokeWidth={0.8}
          />
        ))}
        {[...rows].reverse().map((row, index) => {
          const after = index === rows.length - 1;
          return CURVES.map(([channel, tint]) => (
            <path
              key={`${row.address} ${channel}`}
              data-curve={`${row.address}.${channel}`}
              d={path(row[channel])}
              fill="none"
              className={tint}
              strokeWidth={after ? 1.5 : 1.1}
              strokeOpacity={after ? 1 : 0.75}
              strokeDasharray={after ? undefined : "3 3"}
            />
          ));
        })}
      </svg>
      <figcaption className="flex gap-3 text-[11px] text-dim">
        <span>full: {rows[0]?.address}</span>
        {rows[1] && <span>dashed: {rows[1].address}</span>}
      </figcaption>
    </figure>
  );
}
