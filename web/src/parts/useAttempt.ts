import { useState } from "react";

import { type Problem, problemOf } from "@/api/client";

/** Something tried, whether it came off, and what was wrong with the last of it; in any case `after` is done. */
export function useAttempt(after?: () => Promise<unknown>) {
  const [problem, setProblem] = useState<Problem | null>(null);
  const attempt = async (work: () => Promise<unknown>): Promise<boolean> => {
    setProblem(null);
    let done = true;
    try {
      await work();
    } catch (error) {
      setProblem(problemOf(error));
      done = false;
    }
    await after?.();
    return done;
  };
  return { problem, attempt };
}
