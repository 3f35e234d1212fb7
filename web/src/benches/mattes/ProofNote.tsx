import { useEffect, useMemo, useState } from "react";

import { type Item, api, got, problemOf } from "@/api/client";
import { type Step, insertSteps } from "@/api/recipe";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";
import { useView } from "@/stage/viewState";
import { percent } from "@/parts/percent";

import { useQuestion } from "./useQuestion";

interface Props {
  shot: number;
  known: Item;
}

/** What is seen of a proof: the rebuilt shot, how far it is off, or the chain built by hand beside the matte. */
type Seen = "rebuilt" | "off" | "hand";

/** Whether a step is a matte whose background is known. */
export function provable(step: Step): boolean {
  return (
    ["screen_solve", "screen_pull"].includes(step.op) ||
    (step.op === "mark_solve" && "clean" in (step.in ?? {}))
  );
}

/**
 * A matte put to the proof: the shot rebuilt from it, and its difference from the shot in units of noise; of a whole
 * matte before a screen, the chain that one would build by hand, on the same split.
 */
export function ProofNote({ shot, known }: Props) {
  const [seen, setSeen] = useState<Seen | null>(null);
  const change = useView((state) => state.change);
  const { asked, begin, found, answer } = useQuestion("proof", shot, known, (body) =>
    got(api.POST("/api/shots/{shot_id}/rebuilt", { params: { path: { shot_id: shot } }, body })),
  );
  const looked = useMemo(() => {
    if (!answer || !seen) return null;
    const steps = seen === "hand" ? (answer.by_hand?.steps ?? []) : answer.steps;
    const some = (seen === "rebuilt" ? steps.slice(0, -1) : steps) as unknown as Step[];
    const [recipe, address] = insertSteps(known.of, some, known.name);
    return { recipe, address };
  }, [answer, seen, known]);
  useEffect(() => {
    if (!looked || !seen) return;
    if (seen === "hand") {
      change({ pin: { ...looked, channels: null }, panes: "split" });
      return () => change({ pin: null, panes: "one" });
    }
    const label = seen === "rebuilt" ? `shot rebuilt from ${known.name}` : "off by times the noise";
    change({ preview: { ...looked, label } });
    return () => change({ preview: null });
  }, [looked, seen, known.name, change]);

  if (asked && found.isError) return <Message problem={problemOf(found.error)} />;
  const button = (what: Seen, text: string, title: string) => (
    <Button lit={seen === what} title={title} onClick={() => setSeen(seen === what ? null : what)}>
      {text}
    </Button>
  );
  return (
    <div role="group" aria-label="Proof">
      <div className="flex items-center justify-between gap-2">
        <span role="status" className="text-dim">
          {answer
            ? `Rebuilt, off by ${answer.mean.toFixed(1)} of the noise, over 3 in ${percent(answer.share)}`
            : asked
              ? "Rebuilding the shot"
              : "Does it give the shot back?"}
        </span>
        {!answer && (
          <Button
            disabled={asked}
            onClick={begin}
            title="Rebuild the shot from the matte, and see how far that is off"
          >
            Proof
          </Button>
        )}
      </div>
      {answer && (
        <div className="mt-1.5 flex flex-wrap gap-1.5">
          {button("rebuilt", "Rebuilt", "The shot rebuilt from the matte, its colour and the background")}
          {button("off", "Off by", "How far it is off, in units of the shot's noise: black 0, white 6")}
          {answer.by_hand &&
            button(
              "hand",
              `By hand, differs in ${percent(answer.by_hand.share)}`,
              "Noise taken out, pulled, posts set by eye: on the other side of the split",
            )}
        </div>
      )}
    </div>
  );
}
