import { useEffect } from "react";

import { useDraft } from "./draft";

/**
 * Escape during a drag, of whatever it may be: the recipe is as it was before, and the control sees nothing more of the
 * pointer until it is let go.
 */
export function useGivingUp(): void {
  useEffect(() => {
    let held = false;
    let gone = false;
    const press = () => {
      held = true;
      gone = false;
      useDraft.getState().letGo();
    };
    const move = (event: Event) => {
      if (gone) event.stopImmediatePropagation();
    };
    const release = () => {
      held = false;
      gone = false;
      // What the control tells of its being let go belongs to the drag.
      setTimeout(() => !held && useDraft.getState().letGo());
    };
    const key = (event: KeyboardEvent) => {
      if (event.key !== "Escape" || !held || !useDraft.getState().giveUp()) return;
      gone = true;
      event.preventDefault();
      event.stopImmediatePropagation();
    };
    // Before any control, and any dialog that Escape would close.
    const first = { capture: true };
    window.addEventListener("pointerdown", press, first);
    window.addEventListener("pointermove", move, first);
    window.addEventListener("pointerup", release, first);
    window.addEventListener("pointercancel", release, first);
    window.addEventListener("keydown", key, first);
    return () => {
      useDraft.getState().letGo();
      window.removeEventListener("pointerdown", press, first);
      window.removeEventListener("pointermove", move, first);
      window.removeEventListener("pointerup", release, first);
      window.removeEventListener("pointercancel", release, first);
      window.removeEventListener("keydown", key, first);
    };
  }, []);
}
