import { Component, type ReactNode, useState } from "react";
import { useRouteError } from "react-router";

import { api, got } from "@/api/client";
import { Button } from "@/parts/Button";
import { Mark } from "@/parts/Mark";
import { Message } from "@/parts/Message";
import { useDraft } from "@/shot/draft";

/** What is seen where a page of the router itself failed. */
export function Fault() {
  return <Stopped error={useRouteError()} />;
}

/** What is seen where anything else threw: never the browser's bare page. */
export class Boundary extends Component<{ children: ReactNode }, { error: unknown }> {
  override state: { error: unknown } = { error: null };

  static getDerivedStateFromError(error: unknown) {
    return { error };
  }

  override render() {
    return this.state.error === null ? this.props.children : <Stopped error={this.state.error} />;
  }
}

/** A page that stopped. The work is kept: it lies in the draft and in the browser. */
function Stopped({ error }: { error: unknown }) {
  const unsaved = useDraft((state) => state.unsaved);
  const [did, setDid] = useState("");
  const [sent, setSent] = useState<"" | "sending" | "sent" | "failed">("");
  const message = error instanceof Error ? error.message : String(error);
  const send = () => {
    setSent("sending");
    const body = {
      message: message.slice(0, 1000),
      stack: (error instanceof Error ? (error.stack ?? "") : "").slice(0, 8000),
      page: window.location.pathname + window.location.search,
      did: did.slice(0, 2000),
    };
    got(api.POST("/api/faults", { body })).then(
      () => setSent("sent"),
      () => setSent("failed"),
    );
  };
  return (
    <main className="mx-auto flex max-w-md flex-col gap-4 p-10">
      <Mark />
      <h1 className="text-[15px] font-semibold">This page stopped</h1>
      <Message
        problem={{
          code: "page",
          message: `something went wrong in the browser (${message})`,
          where: "",
          remedy: "open it again",
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
      <form
        className="mt-2 space-y-2 border-t border-line pt-4 text-[12px]"
        onSubmit={(event) => {
          event.preventDefault();
          send();
        }}
      >
        <label className="block text-dim" htmlFor="did">
          What did you do last? It goes to this server's log, with what the browser says and the address of
          the page.
        </label>
        <textarea
          id="did"
          rows={2}
          value={did}
          onChange={(event) => setDid(event.target.value)}
          className="w-full rounded-sm border border-line bg-well px-2 py-1"
        />
        <div className="flex items-center gap-3">
          <Button type="submit" disabled={sent === "sending" || sent === "sent"}>
            Send what happened
          </Button>
          <span role="status" className={sent === "failed" ? "text-ember" : "text-dim"}>
            {sent === "sent" && "It is in the log. Thank you."}
            {sent === "failed" && "It could not be sent; try again."}
          </span>
        </div>
      </form>
    </main>
  );
}
