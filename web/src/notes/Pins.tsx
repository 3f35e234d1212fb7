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
  const { pinned, chosen, change } = useNoting();
  const frame = useTime((state) => state.frame);
  const notes = useOpenNotes(shot).data?.rows ?? [];
  if (!pinned) return null;
  return notes
    .filter((note) => isSeenOn(note, items, shown, frame))
    .map((note) => {
      const x = (note.x! - placement.left) * placement.zoom;
      const y = (note.y! - placement.top) * placement.zoom;
      if (x < 0 || y < 0 || x > placement.width || y > placement.height) return null;
      const name = `${note.author || "somebody"}: ${note.text}`;
      return (
        <button
          key={note.id}
          type="button"
          data-pin={note.id}
          aria-label={`Note of ${name}`}
          title={name.slice(0, 200)}
          style={{ left: x, top: y }}
          onClick={() => change({ open: true, chosen: note.id })}
          className="absolute z-10 -ml-[5px] -mt-[22px] h-[22px] w-4 text-left"
        >
          <Flag lit={note.id === chosen} />
        </button>
      );
    });
}
