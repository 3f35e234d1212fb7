import { useEffect } from "react";
import { useBlocker } from "react-router";

import { Button } from "@/parts/Button";
import { Modal } from "@/parts/Modal";

import { useDraft } from "./draft";

const PATIENCE_MS = 3000;

/** Saves before another page opens; what cannot be saved for now is said before it is left behind. */
export function Leaving() {
  const problem = useDraft((state) => state.problem);
  const blocker = useBlocker(
    ({ currentLocation, nextLocation }) =>
      currentLocation.pathname !== nextLocation.pathname && useDraft.getState().unsaved,
  );
  const { state, proceed } = blocker;
  useEffect(() => {
    if (state !== "blocked") return;
    let here = true;
    const patience = new Promise<boolean>((resolve) => setTimeout(() => resolve(false), PATIENCE_MS));
    void Promise.race([useDraft.getState().finished(), patience]).then((done) => {
      if (done && here) proceed?.();
    });
    return () => {
      here = false;
    };
  }, [state, proceed]);
  if (state !== "blocked" || !problem) return null;
  return (
    <Modal title="Not saved yet" open onClose={() => blocker.reset()}>
      <p className="mb-4 text-[12px] text-dim">
        {problem.message.charAt(0).toUpperCase() + problem.message.slice(1)}. Your last change is kept in this
        browser, and is saved when you open this shot again.
      </p>
      <div className="flex justify-end gap-2">
        <Button onClick={() => blocker.proceed()}>Leave</Button>
        <Button main onClick={() => blocker.reset()}>
          Stay
        </Button>
      </div>
    </Modal>
  );
}
