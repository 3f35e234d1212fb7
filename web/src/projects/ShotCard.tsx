import { useRef } from "react";
import { Link } from "react-router";

import type { ShotRow } from "@/api/client";
import type { Choice } from "@/parts/Menu";
import { MoreButton } from "@/parts/MoreButton";
import { useSeen } from "@/parts/useSeen";

import { ShotPicture } from "./ShotPicture";
import { STATES, type State } from "./wall";

export interface CardActions {
  rename: (shot: ShotRow) => void;
  duplicate: (shot: ShotRow) => void;
  tag: (shot: ShotRow) => void;
  move: (shot: ShotRow) => void;
  remove: (shot: ShotRow) => void;
  change: (shot: ShotRow, change: { state?: State; archived?: boolean }) => void;
}

/** A shot on the wall: its picture once it is in sight, name, state, and what can be done with it. */
export function ShotCard({ shot, actions }: { shot: ShotRow; actions: CardActions | null }) {
  const place = useRef<HTMLLIElement>(null);
  const seen = useSeen(place);
  return (
    <li
      ref={place}
      className="relative overflow-hidden rounded-sm border border-line bg-panel [contain-intrinsic-size:auto_205px] [content-visibility:auto] focus-within:border-faint hover:border-faint"
    >
      <Link to={`/shots/${shot.id}`} className="block">
        {shot.picture !== null && shot.revision !== null ? (
          <ShotPicture
            shot={shot.id}
            revision={shot.revision}
            picture={shot.picture}
            frame={shot.frame}
            scale={4}
            label={`Shot ${shot.name}`}
          />
        ) : (
          <span className="flex aspect-video items-center justify-center bg-well text-[12px] text-dim">
            no pictures yet
          </span>
        )}
        <span className={`block px-3 py-2 ${actions ? "pr-10" : ""}`}>
          <span className="flex items-baseline justify-between gap-3">
            <span className="truncate text-[13px] font-medium" title={shot.name}>
              {shot.name}
            </span>
            <span className="shrink-0 font-mono text-[11px] text-dim">rev {shot.revision}</span>
          </span>
          <span className={`block text-[11px] ${shot.state === "done" ? "text-lichen" : "text-dim"}`}>
            {STATES[shot.state]}
            {shot.notes > 0 && (
              <span className="text-clay">
                {" "}
                · {shot.notes} {shot.notes === 1 ? "note" : "notes"}
              </span>
            )}
          </span>
          {shot.tags.length > 0 && (
            <span className="block truncate text-[11px] text-faint" title={shot.tags.join(", ")}>
              {shot.tags.join(", ")}
            </span>
          )}
        </span>
      </Link>
      {actions && seen && (
        <div className="absolute right-2 bottom-3">
          <MoreButton label={`What to do with ${shot.name}`} choices={choicesOf(shot, actions)} />
        </div>
      )}
    </li>
  );
}

function choicesOf(shot: ShotRow, actions: CardActions): Choice[] {
  const states = (Object.keys(STATES) as State[]).filter((state) => state !== shot.state);
  return [
    ...states.map((state) => ({
      label: `Say that it is ${STATES[state]}`,
      onSelect: () => actions.change(shot, { state }),
    })),
    { label: "Rename…", onSelect: () => actions.rename(shot) },
    { label: "Duplicate…", onSelect: () => actions.duplicate(shot) },
    { label: "Tags…", onSelect: () => actions.tag(shot) },
    { label: "Move to another project…", onSelect: () => actions.move(shot) },
    {
      label: shot.archived ? "Bring back from aside" : "Put aside",
      onSelect: () => actions.change(shot, { archived: !shot.archived }),
    },
    { label: "Delete…", danger: true, onSelect: () => actions.remove(shot) },
  ];
}
