import { useCallback } from "react";
import { type NavigateOptions, useNavigate } from "react-router";

/**
 * Changes parts of the page's address; null takes a part out.
 *
 * It starts from the address itself, never from what was drawn last: on a busy machine a page is drawn well after its
 * address has changed, and a second change must not take the first one back.
 */
export function useGo(): (change: Record<string, string | null>, options?: NavigateOptions) => void {
  const navigate = useNavigate();
  return useCallback(
    (change, options) => {
      const next = new URLSearchParams(window.location.search);
      for (const [key, value] of Object.entries(change))
        if (value === null) next.delete(key);
        else next.set(key, value);
      // What is there already is no place to go back from.
      if (next.toString() === new URLSearchParams(window.location.search).toString()) return;
      // Drawn at once: whatever the hand does next starts from what has been chosen, not from what was before.
      void navigate({ search: next.toString() }, { flushSync: true, ...options });
    },
    [navigate],
  );
}
