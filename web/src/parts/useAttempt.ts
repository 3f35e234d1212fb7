import { useState } from "react";

import { type Problem, problemOf } from "@/api/client";

/** Something tried, and what was wrong with the last of it; whatever came of it, `after` is done. */
export function useAttempt(after?: () => Promise<unknown>) {
  const [problem, setProblem] = useState<Problem | null>(null);
  const attempt = async (work: () => Promise<unknown>) => {
    setProblem(null);
    try {
      await work();
    } catch (error) {
      setProblem(problemOf(error));
    }
    await after?.();
  };
  return { problem, attempt };
}
