import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import type { Item } from "@/api/client";
import { whilePending } from "@/api/pending";
import { drafted } from "@/api/recipe";
import { useSettled } from "@/parts/useSettled";
import { ownView } from "@/stage/planes";

/** What a question about an item is asked with. */
export type Question = ReturnType<typeof drafted> & { item: string; page: string };

/**
 * A question about an item that the server works out in the background: asked once by a click, then again whenever the
 * item has changed and stands. What was answered before stays as `found.data` until then, and is told apart by
 * `answer`.
 */
export function useQuestion<T>(
  kind: string,
  shot: number,
  known: Item,
  ask: (question: Question) => Promise<T>,
) {
  const [asked, setAsked] = useState(false);
  const [page] = useState(() => ownView(kind));
  const settled = useSettled(known, 600);
  const found = useQuery({
    queryKey: [kind, shot, settled?.name, settled?.digest],
    queryFn: ({ signal }) =>
      whilePending(
        shot,
        page,
        () => ask({ ...drafted(settled!.of), item: settled!.name, page }),
        // What nobody looks at any more is given up.
        { stopped: () => signal.aborted },
      ),
    enabled: asked && settled?.digest === known.digest && !known.problem,
    staleTime: Infinity,
    gcTime: 60_000,
    retry: false,
    placeholderData: (before) => before,
  });
  return {
    asked,
    begin: () => setAsked(true),
    found,
    answer: asked && !found.isPlaceholderData ? found.data : undefined,
  };
}
