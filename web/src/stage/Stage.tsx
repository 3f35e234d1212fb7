import { useEffect, useMemo, useRef, useState } from "react";

import type { Item } from "@/api/client";
import { findStep, firstInput, itemOf, type Recipe } from "@/api/recipe";
import { Message } from "@/parts/Message";

import { matteOver } from "./focus";
import { FourPanes } from "./FourPanes";
import { type Placement, place } from "./geometry";
import { Pane } from "./Pane";
import { type Backing, ownColour } from "./painting";
import { Probe } from "./Probe";
import { SlowNote } from "./SlowNote";
import { SplitLine } from "./SplitLine";
import { StageBar } from "./StageBar";
import { type PaneAsk, usePane } from "./usePane";
import { type Backdrop, useView } from "./viewState";

type Display = [number, number, number, number];

interface Props {
  shot: number;
  recipe: Recipe;
  items: Item[];
  item: string | null;
  writable: boolean;
  /** What a bench does on the stage, laid over the main pane. */
  over?: (
    placement: Placement,
    shown: unknown,
    onHover: (at: [number, number] | null) => void,
  ) => React.ReactNode;
}

function backingOf(backdrop: Backdrop, own: string, cell: number): PaneAsk["backing"] {
  if (backdrop === "weave") return { kind: "weave", cell };
  if (backdrop.startsWith("item:")) return { kind: "item", address: backdrop.slice(5) };
  const rgb = (value: number): Backing => ({ kind: "colour", rgb: [value, value, value] });
  if (backdrop === "black") return rgb(0);
  if (backdrop === "white") return rgb(1);
  return { kind: "colour", rgb: rgbOf(own) };
}

function rgbOf(hex: string): [number, number, number] {
  return [1, 3, 5].map((start) => parseInt(hex.slice(start, start + 2), 16) / 255) as [
    number,
    number,
    number,
  ];
}

/** The picture in the middle of everything. */
export function Stage({ shot, recipe, items, item, writable, over: laidOver }: Props) {
  const view = useView();
  const box = useRef<HTMLDivElement>(null);
  const [size, setSize] = useState<[number, number]>([0, 0]);
  const [hover, setHover] = useState<[number, number] | null>(null);
  const known = items.find((entry) => entry.name === item);
  // A step that was just added is not described yet: until it is, the stage shows what it showed before.
  const before = useRef<{
    display: Display;
    picture: { recipe: Recipe; address: string; channels: string[] | null };
  }>(undefined);
  const display = (known?.display ?? (item ? before.current?.display : undefined)) as Display | undefined;

  useEffect(() => {
    const observer = new ResizeObserver(([entry]) =>
      setSize([Math.floor(entry!.contentRect.width), Math.floor(entry!.contentRect.height)]),
    );
    if (box.current) observer.observe(box.current);
    return () => observer.disconnect();
  }, []);

  const two = view.panes === "two";
  const alone = view.alone && view.alone.item === item ? view.alone.channels : null;
  // Over which backdrop a lone channel lies makes no difference.
  const four = view.panes === "four" && !alone;
  const width = two || four ? Math.floor((size[0] - 1) / 2) : size[0];
  const height = four ? Math.floor((size[1] - 1) / 2) : size[1];
  const placement = useMemo(
    () => (display && width > 0 ? place(display, width, height, view.zoom, view.centre) : null),
    [display, width, height, view.zoom, view.centre],
  );

  const over = alone ? null : matteOver(recipe, items, known);
  const laid = over && view.matte !== "off" ? over : null;
  const address = laid ? (view.matte === "alone" ? laid.matte : laid.picture) : (item ?? "");
  const tintOf = (channels: string[] | null) =>
    view.inColour && channels?.length === 1 ? ownColour(channels[0]!) : undefined;

  // A step of the weave is 10 screen pixels wide at any zoom, in whole steps of a factor of two.
  const cell = placement ? 10 / 2 ** Math.round(Math.log2(placement.zoom)) : 10;
  const backing = backingOf(view.backdrop, view.own, cell);
  const common = { shot, placement, backing, exposure: view.exposure };
  const current = item && known && !known.problem ? { recipe, address, channels: alone } : null;
  if (current && display) before.current = { display, picture: current };
  const main = usePane({
    ...common,
    name: "main",
    display: display ?? null,
    picture: view.preview
      ? { recipe: view.preview.recipe, address: view.preview.address, channels: null }
      : (current ?? (item && !known ? (before.current?.picture ?? null) : null)),
    matte:
      laid && !view.preview && (view.matte === "hatch" || view.matte === "contour")
        ? { address: laid.matte, kind: view.matte }
        : null,
    tint: tintOf(alone),
  });
  const compared =
    view.panes === "split" || view.panes === "blink" || view.panes === "difference" ? view.panes : null;
  const second = view.pin ?? firstOf(recipe, items, item);
  const other = usePane({
    ...common,
    name: "other",
    display: display ?? null,
    picture: (two || compared || (four && view.pin)) && second ? second : null,
    matte: null,
    tint: tintOf(second?.channels ?? null),
  });

  const told = view.fringe && view.fringe.item === item ? view.fringe.told : null;
  const fringe = usePane({
    ...common,
    name: "fringe",
    display: display ?? null,
    picture: told && current && !alone ? { ...current, fringe: told } : null,
    matte: null,
    tint: undefined,
  });

  const probed = useMemo(() => {
    const names = [item, over && itemOf(over.picture) !== item ? over.picture : null];
    return names.filter((name): name is string => name !== null && name !== undefined);
  }, [item, over]);

  const label = view.preview
    ? `Preview: ${view.preview.label}`
    : alone
      ? `${item} · ${alone.join(" + ")}`
      : laid && view.matte !== "alone"
        ? `${laid.picture} · ${view.matte === "hatch" ? "hatched where" : "contour of"} ${itemOf(laid.matte)} ${view.matte === "hatch" ? "removes" : "at 0.5"}`
        : address;
  const otherLabel = second
    ? `${view.pin ? "Pin: " : ""}${second.address}${second.channels ? ` · ${second.channels.join(" + ")}` : ""}`
    : "";

  return (
    <section aria-label="Stage" className="flex select-none min-h-0 min-w-0 grow flex-col">
      <div ref={box} className="relative flex min-h-0 grow gap-px overflow-hidden bg-line">
        {!item && (
          <p className="grow bg-stage p-6 text-dim">
            Choose something in the lineage below, or drop a picture here.
          </p>
        )}
        {known?.problem && (
          <div className="grow bg-stage p-6">
            <div className="max-w-md">
              <Message problem={known.problem} />
            </div>
          </div>
        )}
        {item && !known?.problem && placement && display && (
          <>
            {four ? (
              <FourPanes
                label={label}
                display={display}
                placement={placement}
                main={main}
                other={view.pin ? other : null}
                fringe={told ? fringe : null}
                exposure={view.exposure}
                own={
                  view.backdrop.startsWith("item:") ? main.backing : { kind: "colour", rgb: rgbOf(view.own) }
                }
                ownLabel={view.backdrop.startsWith("item:") ? view.backdrop.slice(5) : "own colour"}
                overlay={(own) =>
                  laidOver && !view.pick && !view.preview && laidOver(own, main.shown, setHover)
                }
                onHover={setHover}
              />
            ) : (
              <Pane
                name="main"
                label={told && !alone ? `${label} · fringe` : label}
                display={display}
                placement={placement}
                main={told && !alone ? fringe : main}
                other={compared && second ? other : null}
                compare={compared ?? "split"}
                onHover={setHover}
              />
            )}
            {!four && laidOver && !view.pick && !view.preview && laidOver(placement, main.shown, setHover)}
            {compared && second && (
              <>
                {compared === "split" && <SplitLine width={size[0]} height={size[1]} />}
                <span className="pointer-events-none absolute right-3 top-3 rounded-sm border border-line bg-panel/85 px-2 py-0.5 text-[12px]">
                  {otherLabel}
                </span>
              </>
            )}
            {two && (
              <Pane
                name="other"
                label={otherLabel || "nothing to compare with"}
                display={display}
                placement={placement}
                main={other}
                onHover={setHover}
              />
            )}
            {main.problem && (
              <div className="absolute left-3 top-11 max-w-md">
                {main.problem.code === "pending" && item ? (
                  <SlowNote
                    shot={shot}
                    recipe={recipe}
                    items={items}
                    address={address}
                    problem={main.problem}
                    writable={writable}
                  />
                ) : (
                  <Message problem={main.problem} />
                )}
              </div>
            )}
            {view.pick && (
              <div className="pointer-events-none absolute inset-x-0 top-3 text-center">
                <span className="rounded-sm border border-lichen bg-panel px-3 py-1 text-[12px]">
                  Click in the picture: {view.pick.label}. Escape gives up.
                </span>
              </div>
            )}
            <Probe shot={shot} recipe={recipe} addresses={probed} alone={alone} at={hover} />
          </>
        )}
      </div>
      <StageBar
        zoom={placement?.zoom ?? 1}
        lone={alone?.length === 1 && ownColour(alone[0]!) !== undefined}
        items={items.filter((entry) => !entry.problem && entry.name !== item).map((entry) => entry.name)}
        onPin={() => view.change(pinned(view.pin !== null, recipe, address, alone))}
      />
    </section>
  );
}

/** Pin the view, or take the pin away. */
export function pinned(has: boolean, recipe: Recipe, address: string, channels: string[] | null) {
  return has ? { pin: null, panes: "one" as const } : { pin: { recipe, address, channels } };
}

/** What a second pane shows without a pin: the first input of a step. */
function firstOf(recipe: Recipe, items: Item[], item: string | null) {
  const first = item ? firstInput(findStep(recipe, item)) : undefined;
  if (!first || items.find((entry) => entry.name === itemOf(first))?.problem) return null;
  return { recipe, address: first, channels: null };
}
