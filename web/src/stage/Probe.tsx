import { useEffect, useRef, useState } from "react";

import { type Probed, api, got } from "@/api/client";
import { type Recipe, type Step, findStep, itemOf, drafted } from "@/api/recipe";

import { useHover } from "./hover";
import { useNewest } from "./useNewest";
import { useView } from "./viewState";

const TINT: Record<string, string> = { R: "text-red", G: "text-green", B: "text-blue", A: "text-alpha" };

/** A number as the probe shows it: four places, or as many digits where it is large or tiny. */
function exact(value: number | null | undefined): string {
  if (value === null || value === undefined) return "not a number";
  const size = Math.abs(value);
  if (size >= 10000 && Number.isInteger(value)) return String(value);
  return size !== 0 && (size < 0.001 || size >= 10000) ? value.toExponential(3) : value.toFixed(4);
}

function code(value: number | null | undefined): string {
  return value === null || value === undefined
    ? ""
    : String(Math.floor(Math.min(1, Math.max(0, value)) * 255 + 0.5));
}

/** Whether a value of a data channel has an 8-bit code at all. */
function inRange(value: number | null): boolean {
  return value !== null && value >= 0 && value <= 1;
}

interface Props {
  shot: number;
  recipe: Recipe;
  addresses: string[];
  /** Channels that are shown alone: their numbers come first. */
  alone: string[] | null;
}

/** The exact numbers under the pointer, in full precision from the server; the newest wish is answered last. */
export function Probe({ shot, recipe, addresses, alone }: Props) {
  const at = useHover((state) => state.at);
  const { probeSize: size, probing } = useView();
  const names = addresses.join(" ");
  const rows = useNewest(names ? at : null, [shot, recipe, names, size], (x, y) =>
    got(
      api.POST("/api/shots/{shot_id}/probe", {
        params: { path: { shot_id: shot } },
        body: { ...drafted(recipe), addresses: names.split(" "), x, y, size },
      }),
    ),
  );
  const shown = rows !== null && probing;
  const box = useRef<HTMLDivElement>(null);
  const [above, setAbove] = useState(false);
  useEffect(() => {
    // The probe is never where the pointer works: it stands at the other end of the stage.
    const place = box.current?.parentElement;
    if (!place) return;
    const follow = (event: PointerEvent) => {
      const around = place.getBoundingClientRect();
      const low = (event.clientY - around.top) / around.height;
      setAbove((before) => (before ? low > 0.35 : low > 0.6));
    };
    place.addEventListener("pointermove", follow);
    return () => place.removeEventListener("pointermove", follow);
    // It is there only while there are numbers.
  }, [shown]);
  if (!rows || !probing) return null;
  return (
    <div
      ref={box}
      data-testid="probe"
      className={`pointer-events-none absolute ${above ? "top-3" : "bottom-3"} right-3 max-w-[92%] rounded-sm border border-line bg-panel/90 px-2 py-1 font-mono text-[12px] leading-[17px]`}
    >
      <div className="text-dim">
        x {rows.x} y {rows.y} · {size}×{size}
      </div>
      {rows.answer.map((row) => (
        <ProbeRow
          key={row.address}
          row={row}
          first={alone ?? []}
          step={findStep(recipe, itemOf(row.address))}
        />
      ))}
    </div>
  );
}

/** How strongly a step works as a whole, which is not the alpha of a pixel. */
function strength(step: Step | undefined): number | null {
  const value = step?.set?.opacity ?? step?.set?.mix;
  return typeof value === "number" ? value : step?.op === "stack" ? 1 : null;
}

function ProbeRow({ row, first, step }: { row: Probed; first: string[]; step: Step | undefined }) {
  const opacity = strength(step);
  if (!row.inside)
    return (
      <div className="text-dim">
        <span className="text-text">{row.address}</span> outside its data window
      </div>
    );
  const isFirst = (channel: { name: string }) => first.includes(channel.name);
  const ordered = [...row.channels.filter(isFirst), ...row.channels.filter((one) => !isFirst(one))];
  const shown = ordered.slice(0, 8);
  const more = row.channels.length - shown.length;
  return (
    <div className="flex flex-wrap gap-x-3">
      <span className="text-text">{row.address}</span>
      {shown.map((channel) => {
        const last = channel.name.split(".").pop() ?? channel.name;
        const tint = TINT[last] ?? "text-lilac";
        return (
          <span key={channel.name} className={tint}>
            {shown.length > 1 && `${channel.name} `}
            {exact(channel.value)}
            {(channel.colour || inRange(channel.value)) && (
              <span className="text-faint"> {code(channel.encoded)}</span>
            )}
            {channel.non_finite > 0 && <span className="text-ember"> {channel.non_finite} not finite</span>}
          </span>
        );
      })}
      {opacity !== null && <span className="text-dim">step opacity {opacity.toFixed(2)}</span>}
      {more > 0 && <span className="text-faint">and {more} more</span>}
    </div>
  );
}
