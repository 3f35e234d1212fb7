import type { Item } from "@/api/client";
import type { Placement } from "@/stage/geometry";
import { useTime } from "@/time/timeState";

import { Flag } from "./Flag";
import { isSeenOn, useNoting, useOpenNotes } from "./notes";

interface Props {
  shot: number;
  items: Item[];
  shown: Item | undefined;
  placement: Placement;
}

/** Where the open notes are about a place of the picture that is shown: a click opens the note. */
export function Pins({ shot, items, shown, placement }: Props) {
  const { open, place, pinned, chosen, change } = useNoting();
  const frame = useTime((state) => state.frame);
  const notes = useOpenNotes(shot).data?.rows ?? [];
  const at = (spot: { x: number | null; y: number | null }) => {
    const x = (spot.x! - placement.left) * placement.zoom;
    const y = (spot.y! - placement.top) * placement.zoom;
    return x < 0 || y < 0 || x > placement.width || y > placement.height ? null : { left: x, top: y };
  };
  const written = open && place && isSeenOn(place, items, shown, frame) ? at(place) : null;
  const flags = notes
    .filter((note) => pinned && isSeenOn(note, items, shown, frame))
    .map((note) => {
      const spot = at(note);
      if (!spot) return null;
      const name = `${note.author || "somebody"}: ${note.text}`;
      return (
        <button
          key={note.id}
          type="button"
          data-pin={note.id}
          aria-label={`Note of ${name}`}
          title={name.slice(0, 200)}
          style={spot}
          onClick={() => change({ open: true, chosen: note.id })}
          className="absolute z-10 -ml-[5px] -mt-[22px] h-[22px] w-4 text-left"
        >
          <Flag lit={note.id === chosen} />
        </button>
      );
    });
  return (
    <>
      {flags}
      {written && (
        <span
          data-testid="written"
          style={written}
          className="pointer-events-none absolute z-10 -ml-[5px] -mt-[22px] h-[22px] w-4 opacity-70"
        >
          <Flag lit />
        </span>
      )}
    </>
  );
}
