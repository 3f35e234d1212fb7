import { type KeyboardEvent, useEffect, useMemo, useState } from "react";

import type { OperationRow } from "@/api/client";
import { useOperations } from "@/api/queries";
import { Modal } from "@/parts/Modal";

import { AboutOperation } from "./AboutOperation";
import { type Entry, entriesFor } from "./entries";
import { useHelp } from "./helpState";
import type { HowTo } from "./howtos";
import type { KEYS } from "./keys";

const NO_OPERATIONS: OperationRow[] = [];
const HEADINGS = { "how to": "Jobs", keys: "Keys", step: "Steps" };

/** All help there is, searched: the jobs, the keys, and every step with its formula. */
export function Help() {
  const { page, setting, close } = useHelp();
  const operations = useOperations().data ?? NO_OPERATIONS;
  const [text, setText] = useState("");
  const [at, setAt] = useState(page);
  const [howTos, setHowTos] = useState<HowTo[]>([]);
  useEffect(() => {
    // Its texts are fetched when somebody wants them; the keys are there at once.
    let gone = false;
    void import("./howtos").then(({ HOW_TOS }) => !gone && setHowTos(HOW_TOS));
    return () => {
      gone = true;
    };
  }, []);
  const found = useMemo(() => entriesFor(text, howTos, operations), [text, howTos, operations]);
  const shown = found.find((entry) => entry.id === at) ?? found[0];
  const move = (event: KeyboardEvent) => {
    const turn = event.key === "ArrowDown" ? 1 : event.key === "ArrowUp" ? -1 : 0;
    if (!turn || !shown) return;
    event.preventDefault();
    const next = found[Math.min(found.length - 1, Math.max(0, found.indexOf(shown) + turn))]!;
    setAt(next.id);
    document.getElementById(`help-${next.id}`)?.scrollIntoView({ block: "nearest" });
  };
  return (
    <Modal title="Help" open onClose={close} width={940}>
      <div className="flex h-[60vh] gap-4">
        <div className="flex w-60 shrink-0 flex-col">
          <input
            role="combobox"
            aria-expanded
            aria-controls="help-pages"
            aria-activedescendant={shown ? `help-${shown.id}` : undefined}
            aria-label="Search the help"
            placeholder="What do you want to do?"
            value={text}
            onChange={(event) => {
              setText(event.target.value);
              setAt("");
            }}
            onKeyDown={move}
            className="mb-2 h-7 w-full shrink-0 rounded-sm border border-line bg-raised px-2 text-[13px] placeholder:text-faint"
          />
          <ul
            id="help-pages"
            role="listbox"
            aria-label="Pages"
            tabIndex={-1}
            className="min-h-0 grow overflow-y-auto text-[12px]"
          >
            {found.map((entry, index) => (
              <li
                key={entry.id}
                id={`help-${entry.id}`}
                role="option"
                aria-selected={entry === shown}
                onClick={() => setAt(entry.id)}
                className={`cursor-default rounded-sm px-2 py-1 ${entry === shown ? "bg-raised text-lichen" : "hover:bg-raised"} ${
                  !text && index > 0 && found[index - 1]!.kind !== entry.kind ? "mt-3" : ""
                }`}
              >
                {entry.title}
                {(text || found[index - 1]?.kind !== entry.kind) && (
                  <span className="float-right text-[11px] text-faint">{HEADINGS[entry.kind]}</span>
                )}
              </li>
            ))}
          </ul>
        </div>
        <article
          aria-label={shown?.title ?? "Nothing found"}
          // Long pages are read by the keys, too.
          tabIndex={0}
          key={`topic ${shown?.id}`}
          className="min-w-0 grow overflow-y-auto border-l border-line pl-4"
        >
          {shown ? (
            <Page entry={shown} setting={setting} />
          ) : (
            <p className="text-dim">Nothing tells of that.</p>
          )}
        </article>
      </div>
    </Modal>
  );
}

function Page({ entry, setting }: { entry: Entry; setting: string | null }) {
  return (
    <>
      <h3 className="mb-2 text-[14px] font-semibold">{entry.title}</h3>
      {entry.kind === "keys" ? (
        <Keys rows={entry.rows} />
      ) : entry.kind === "step" ? (
        <AboutOperation operation={entry.operation} setting={setting} />
      ) : (
        <Job howTo={entry.howTo} />
      )}
    </>
  );
}

function Keys({ rows }: { rows: typeof KEYS }) {
  return (
    <dl className="grid grid-cols-[150px_1fr] gap-y-1.5 text-[12px]">
      {rows.map(([keys, what]) => (
        <div key={`${keys} ${what}`} className="contents">
          <dt>
            <kbd className="font-mono text-lichen">{keys}</kbd>
          </dt>
          <dd className="text-text">{what}</dd>
        </div>
      ))}
    </dl>
  );
}

function Job({ howTo }: { howTo: HowTo }) {
  return (
    <div className="space-y-3 text-[13px] leading-relaxed [&_code]:font-mono [&_code]:text-[12px] [&_code]:text-lichen">
      {howTo.parts.map((part) =>
        "html" in part ? (
          // Of our own README, made when the application was.
          <p key={part.html} dangerouslySetInnerHTML={{ __html: part.html }} />
        ) : (
          <figure key={part.picture} className="space-y-1.5">
            <img
              src={part.picture}
              alt={part.shows}
              loading="lazy"
              className="w-full rounded-sm border border-line"
            />
            <figcaption className="text-[12px] text-dim">{part.shows}</figcaption>
          </figure>
        ),
      )}
    </div>
  );
}
