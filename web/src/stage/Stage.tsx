import { useEffect, useRef, useState } from "react";

import type { Item } from "@/api/client";
import type { Recipe } from "@/api/recipe";
import { Pins } from "@/notes/Pins";
import { FirstSteps } from "@/shot/FirstSteps";
import { Message } from "@/parts/Message";

import { rgbOf } from "./backdrops";
import { FourPanes } from "./FourPanes";
import { useHover } from "./hover";
import type { Placement } from "./geometry";
import { Pane } from "./Pane";
import { ownColour } from "./painting";
import { Probe } from "./Probe";
import { SlowNote } from "./SlowNote";
import { SplitLine } from "./SplitLine";
import { StageBar } from "./StageBar";
import { useStage } from "./useStage";
import { useView } from "./viewState";

interface Props {
  shot: number;
  recipe: Recipe;
  items: Item[];
  item: string | null;
  writable: boolean;
  /** What the item is compared with where nothing is pinned, of a bench that always compares. */
  against?: string;
  /** What a bench does on the stage, laid over the main pane. */
  over?: (placement: Placement, onHover: (at: [number, number] | null) => void) => React.ReactNode;
}

/** The picture in the middle of everything. */
export function Stage({ shot, recipe, items, item, writable, against, over: laidOver }: Props) {
  const view = useView();
  const box = useRef<HTMLDivElement>(null);
  const [size, setSize] = useState<[number, number]>([0, 0]);
  const setHover = (at: [number, number] | null) => useHover.setState({ at });
  useEffect(() => {
    return () => useHover.setState({ at: null });
  }, []);
  useEffect(() => {
    const observer = new ResizeObserver(([entry]) =>
      setSize([Math.floor(entry!.contentRect.width), Math.floor(entry!.contentRect.height)]),
    );
    if (box.current) observer.observe(box.current);
    return () => observer.disconnect();
  }, []);

  // While something is picked, the stage is the picture's alone; but what goes on after a click shows what it is about.
  const overlaid = laidOver && !view.preview && (!view.pick || view.pick.stays);
  const seen = useStage(shot, recipe, items, item, size);
  const { known, display, placement, two, four, compared, alone, address, told, main, other, waiting } = seen;

  return (
    <section aria-label="Stage" tabIndex={-1} className="flex select-none min-h-0 min-w-0 grow flex-col">
      <div ref={box} className="relative flex min-h-0 grow gap-px overflow-hidden bg-line">
        {!item && <FirstSteps writable={writable} />}
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
                item={view.preview ? null : item}
                recipe={recipe}
                label={seen.label}
                display={display}
                placement={placement}
                main={seen.computed}
                other={view.pin ? other : null}
                compare={view.within}
                fringe={told ? seen.fringe : null}
                exposure={view.exposure}
                own={
                  view.backdrop.startsWith("item:") ? main.backing : { kind: "colour", rgb: rgbOf(view.own) }
                }
                ownLabel={view.backdrop.startsWith("item:") ? view.backdrop.slice(5) : "own colour"}
                overlay={(own) => overlaid && laidOver(own, setHover)}
                onHover={setHover}
              />
            ) : (
              <Pane
                name="main"
                label={told ? `${seen.label} · fringe` : seen.label}
                display={display}
                placement={placement}
                main={told ? seen.fringe : main}
                other={compared ? other : null}
                compare={compared ?? "split"}
                onHover={setHover}
              />
            )}
            {!four && overlaid && laidOver(placement, setHover)}
            {!four && !view.pick && <Pins shot={shot} items={items} shown={known} placement={placement} />}
            {compared && (
              <>
                {compared === "split" && <SplitLine width={size[0]} height={size[1]} />}
                <span className="pointer-events-none absolute right-3 top-3 rounded-sm border border-line bg-panel/85 px-2 py-0.5 text-[12px]">
                  {seen.otherLabel}
                </span>
              </>
            )}
            {two && (
              <Pane
                name="other"
                label={seen.otherLabel || "nothing to compare with"}
                display={display}
                placement={placement}
                main={other}
                onHover={setHover}
              />
            )}
            <div className="absolute left-3 top-11 flex max-w-md flex-col gap-2">
              {main.problem && main.problem.code !== "pending" && <Message problem={main.problem} />}
              {waiting.map((wait) => (
                <SlowNote
                  key={`${wait.address} ${wait.problem.where}`}
                  shot={shot}
                  recipe={wait.recipe}
                  address={wait.address}
                  problem={wait.problem}
                  rough={wait.rough}
                  writable={writable}
                />
              ))}
            </div>
            {view.pick && (
              <div className="pointer-events-none absolute inset-x-0 top-3 text-center">
                <span className="rounded-sm border border-lichen bg-panel px-3 py-1 text-[12px]">
                  Click in the picture: {view.pick.label}. Escape gives up.
                </span>
              </div>
            )}
            <Probe shot={shot} recipe={recipe} addresses={seen.probed} alone={alone} />
          </>
        )}
      </div>
      <StageBar
        zoom={placement?.zoom ?? 1}
        lone={alone?.length === 1 && ownColour(alone[0]!) !== undefined}
        items={items.filter((entry) => !entry.problem && entry.name !== item).map((entry) => entry.name)}
        against={against}
        onPin={() => view.change(pinned(view.pin !== null, recipe, address, alone))}
      />
    </section>
  );
}

/** Pin the view, or take the pin away. */
export function pinned(has: boolean, recipe: Recipe, address: string, channels: string[] | null) {
  return has ? { pin: null, panes: "one" as const } : { pin: { recipe, address, channels } };
}
