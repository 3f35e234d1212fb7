import { useRouteError } from "react-router";

import { Button } from "@/parts/Button";
import { Mark } from "@/parts/Mark";
import { Message } from "@/parts/Message";
import { useDraft } from "@/shot/draft";

/** What is seen where a page itself failed. The work is kept: it lies in the draft and in the browser. */
export function Fault() {
  const error = useRouteError();
  const unsaved = useDraft((state) => state.unsaved);
  const message = error instanceof Error ? error.message : String(error);
  return (
    <main className="mx-auto flex max-w-md flex-col gap-4 p-10">
      <Mark />
      <h1 className="text-[15px] font-semibold">This page stopped</h1>
      <Message
        problem={{
          code: "page",
          message: `something went wrong in the browser (${message})`,
          where: "",
          remedy: "open it again; if it stops again, tell who runs this server what you did",
        }}
      />
      <p className="text-[12px] text-dim">
        {unsaved
          ? "Your last change is kept in this browser and is saved when the page is open again."
          : "Everything is saved."}
      </p>
      <div className="flex gap-2">
        <Button main onClick={() => window.location.reload()}>
          Open it again
        </Button>
        <Button onClick={() => window.location.assign("/projects")}>To the projects</Button>
      </div>
    </main>
  );
}
