import { useEffect } from "react";

import { type Item, api, got, problemOf } from "@/api/client";
import { setSetting } from "@/api/recipe";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";
import { useView } from "@/stage/viewState";
import { percent } from "@/parts/percent";

import { useDoubts } from "./doubtState";
import { useQuestion } from "./useQuestion";

interface Props {
  shot: number;
  known: Item;
}

/** Where a whole matte is unsure of itself: asked for by a click, then kept up to date, gone through with a key. */
export function DoubtNote({ shot, known }: Props) {
  const { places, at, tinted, tint, show, next } = useDoubts();
  const change = useView((state) => state.change);
  const { asked, begin, found, answer } = useQuestion("doubts", shot, known, (body) =>
    got(api.POST("/api/shots/{shot_id}/doubts", { params: { path: { shot_id: shot } }, body })),
  );
  useEffect(() => {
    show(answer?.places ?? []);
    return () => show([]);
  }, [answer, show]);
  // It follows the recipe at once, roughly if need be; the places come when they are found.
  const seen = asked && tinted && !known.problem && found.data !== undefined;
  useEffect(() => {
    if (!seen) return;
    change({ unsure: { item: known.name, recipe: setSetting(known.of, known.name, "gives", "doubt") } });
    return () => change({ unsure: null });
  }, [seen, known, change]);
  if (asked && found.isError) return <Message problem={problemOf(found.error)} />;
  return (
    <div role="group" aria-label="Unsure places" className="flex items-center justify-between gap-2">
      <span role="status" className="text-dim">
        {!answer
          ? asked
            ? "Looking where it is unsure"
            : "How sure is it?"
          : places.length
            ? `${at === null ? "" : `${at + 1} of `}${places.length} unsure ${places.length === 1 ? "place" : "places"}, ${percent(answer.share)} of the picture`
            : "Sure nearly everywhere"}
      </span>
      {answer ? (
        places.length > 0 && (
          <span className="flex shrink-0 gap-1.5">
            <Button lit={tinted} onClick={() => tint(!tinted)} title="Tint them on the stage">
              Tint
            </Button>
            <Button onClick={() => next()} title="Key U, with Shift the one before">
              {at === null ? "Worst" : "Next"}
            </Button>
          </span>
        )
      ) : (
        <Button disabled={asked} onClick={begin} title="Find the places where its alpha is in doubt">
          Unsure places
        </Button>
      )}
    </div>
  );
}
