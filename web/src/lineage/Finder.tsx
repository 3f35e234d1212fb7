import { Dialog } from "radix-ui";
import { useMemo, useRef, useState } from "react";

import type { OperationRow } from "@/api/client";

import { meantBy, wayTo } from "./words";

interface Props {
  open: boolean;
  operations: OperationRow[];
  after: string | null;
  onClose: () => void;
  onTake: (operation: OperationRow) => void;
}

/** How well an operation answers what was typed: by name first, then by what people call it, by need, by its text. */
function rank(operation: OperationRow, words: string[], meant: string[]): number {
  const name = operation.op.replaceAll("_", " ");
  const text = `${name} ${operation.needs} ${operation.family} ${operation.text}`.toLowerCase();
  const place = meant.indexOf(operation.op);
  const called = place < 0 ? 0 : Math.max(3.1, 5.5 - place * 0.6);
  if (!words.every((word) => text.includes(word))) return called || -1;
  const first = words[0] ?? "";
  const phrase = words.join(" ");
  const named = name.startsWith(phrase) ? 6 : name.startsWith(first) ? 4 : name.includes(first) ? 2 : 0;
  const needed = operation.needs.toLowerCase().includes(phrase) ? (words.length > 1 ? 5 : 1) : 0;
  return Math.max(named + needed, called);
}

/** Find a step to add, by name or by need; arrow keys and Enter. */
export function Finder({ open, operations, after, onClose, onTake }: Props) {
  const [text, setText] = useState("");
  const [at, setAt] = useState(0);
  const taken = useRef(false);
  const found = useMemo(() => {
    const words = text.toLowerCase().split(/\s+/).filter(Boolean);
    const meant = meantBy(words.join(" "));
    return operations
      .map((operation) => ({ operation, score: rank(operation, words, meant) }))
      .filter((entry) => entry.score >= 0)
      .sort((a, b) => b.score - a.score)
      .map((entry) => entry.operation);
  }, [operations, text]);
  const way = wayTo(text);
  const take = (operation: OperationRow | undefined) => {
    if (!operation) return;
    taken.current = true;
    setText("");
    setAt(0);
    onTake(operation);
  };
  const close = () => {
    setText("");
    setAt(0);
    onClose();
  };
  return (
    <Dialog.Root open={open} onOpenChange={(next) => !next && close()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/50" />
        <Dialog.Content
          aria-describedby={undefined}
          onCloseAutoFocus={(event) => {
            // What was added has the focus; given up, it goes back to where it was.
            if (taken.current) event.preventDefault();
            taken.current = false;
          }}
          className="fixed bottom-32 left-1/2 z-50 w-[520px] max-w-[94vw] -translate-x-1/2 rounded-sm border border-line bg-panel"
        >
          <Dialog.Title className="sr-only">Add a step</Dialog.Title>
          <input
            autoFocus
            role="combobox"
            aria-expanded
            aria-controls="found-steps"
            aria-activedescendant={found[at] ? `step-${found[at].op}` : undefined}
            aria-label="Add a step by name or by need"
            placeholder={
              after
                ? `Add after ${after}: a name or a need, such as “soften”`
                : "A name or a need, such as “soften”"
            }
            value={text}
            onChange={(event) => {
              setText(event.target.value);
              setAt(0);
            }}
            onKeyDown={(event) => {
              const turn = event.key === "ArrowDown" ? 1 : event.key === "ArrowUp" ? -1 : 0;
              if (turn) {
                event.preventDefault();
                const next = Math.min(found.length - 1, Math.max(0, at + turn));
                setAt(next);
                document.getElementById(`step-${found[next]?.op}`)?.scrollIntoView({ block: "nearest" });
              }
              if (event.key === "Enter") take(found[at]);
            }}
            className="h-10 w-full border-b border-line bg-transparent px-3 text-[14px] outline-none placeholder:text-faint"
          />
          <ul id="found-steps" role="listbox" aria-label="Steps" className="max-h-72 overflow-y-auto p-1">
            {found.map((operation, index) => (
              <li
                key={operation.op}
                id={`step-${operation.op}`}
                role="option"
                aria-selected={index === at}
                onPointerMove={() => setAt(index)}
                onClick={() => take(operation)}
                className={`grid cursor-default grid-cols-[120px_1fr_auto] items-baseline gap-3 rounded-sm px-2 py-1.5 ${index === at ? "bg-raised" : ""}`}
              >
                <span className={index === at ? "text-lichen" : "text-text"}>
                  {operation.op.replaceAll("_", " ")}
                </span>
                <span className="truncate text-[12px] text-dim">{operation.text.split("\n")[0]}</span>
                <span className="text-[11px] text-faint">{operation.family}</span>
              </li>
            ))}
            {found.length === 0 && !way && <li className="px-2 py-1.5 text-dim">Nothing does that yet.</li>}
          </ul>
          {way && <p className="border-t border-line px-3 py-2 text-[12px] text-dim">{way}</p>}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
