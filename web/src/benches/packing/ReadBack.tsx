import { useState } from "react";

import { type Problem, api, got, problemOf } from "@/api/client";
import type { components } from "@/api/schema";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";

type Written = components["schemas"]["Written"];
type ProofAsk = components["schemas"]["ProofAsk"];

/** The texture written, read again and compared, on demand: it takes as long as a delivery. */
export function ReadBack({ shot, ask }: { shot: number; ask: ProofAsk }) {
  const [state, setState] = useState<{ busy: boolean; done: Written | null; problem: Problem | null }>({
    busy: false,
    done: null,
    problem: null,
  });
  const run = async () => {
    setState({ busy: true, done: null, problem: null });
    try {
      const done = await got(
        api.POST("/api/shots/{shot_id}/proof/written", {
          params: { path: { shot_id: shot } },
          body: ask,
        }),
      );
      setState({ busy: false, done, problem: null });
    } catch (error) {
      setState({ busy: false, done: null, problem: problemOf(error) });
    }
  };
  const wrong = state.done?.channels.filter((row) => row.wrong > 0) ?? [];
  return (
    <div className="flex flex-wrap items-center gap-2">
      <Button disabled={state.busy} onClick={() => void run()}>
        {state.busy ? "Writing and reading" : "Write and read back"}
      </Button>
      {state.done && (
        <span role="status" className={wrong.length ? "text-clay" : "text-lichen"}>
          {wrong.length
            ? wrong.map((row) => `${row.name}: ${row.wrong} samples differ`).join(", ")
            : `every sample came back, ${(state.done.bytes / 1e6).toFixed(1)} MB`}
        </span>
      )}
      {state.problem && <Message problem={state.problem} />}
    </div>
  );
}
