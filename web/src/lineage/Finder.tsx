import { Dialog } from "radix-ui";
import { useMemo, useRef, useState } from "react";

import type { OperationRow } from "@/api/client";

import type { ChainRow } from "@/shot/chains";

import { meantBy, wayTo } from "./words";

interface Props {
  open: boolean;
  operations: OperationRow[];
  after: string | null;
  onClose: () => void;
  onTake: (operation: OperationRow) => void;
  /** Kept chains of the project, which are found by their names, too. */
  chains: ChainRow[];
  onChain: (chain: ChainRow) => void;
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

/** What can be taken. */
interface Entry {
  key: string;
  name: string;
  text: string;
  family: string;
  of: OperationRow | ChainRow;
}

/** How well a kept chain answers what was typed; where nothing was, it stands behind the operations. */
function rankOf(chain: ChainRow, words: string[]): number {
  const name = chain.name.toLowerCase();
  if (!words.every((word) => `${name} ${chain.about.toLowerCase()} kept chain`.includes(word))) return -1;
  return words.length === 0 ? 0 : name.startsWith(words.join(" ")) ? 6 : name.includes(words[0]!) ? 4.5 : 1;
}

/** Find a step to add, by name or by need; arrow keys and Enter. */
export function Finder({ open, operations, chains, after, onClose, onTake, onChain }: Props) {
  const [text, setText] = useState("");
  const [at, setAt] = useState(0);
  const taken = useRef(false);
  const found = useMemo(() => {
    const words = text.toLowerCase().split(/\s+/).filter(Boolean);
    const meant = meantBy(words.join(" "));
    const found: { entry: Entry; score: number }[] = [
      ...operations.map((operation) => ({
        entry: {
          key: operation.op,
          name: operation.op.replaceAll("_", " "),
          text: operation.text.split("\n")[0]!,
          family: operation.family,
          of: operation,
        },
        score: rank(operation, words, meant),
      })),
      ...chains.map((chain) => ({
        entry: {
          key: `chain-${chain.id}`,
          name: chain.name,
          text: chain.about || chain.steps.map((step) => step.name).join(", "),
          family: "kept chain",
          of: chain,
        },
        score: rankOf(chain, words),
      })),
    ];
    return found
      .filter((each) => each.score >= 0)
      .sort((a, b) => b.score - a.score)
      .map((each) => each.entry);
  }, [operations, chains, text]);
  const way = wayTo(text);
  const take = (entry: Entry | undefined) => {
    if (!entry) return;
    taken.current = true;
    setText("");
    setAt(0);
    if ("op" in entry.of) onTake(entry.of);
    else onChain(entry.of);
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
            aria-activedescendant={found[at] ? `step-${found[at].key}` : undefined}
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
                document.getElementById(`step-${found[next]?.key}`)?.scrollIntoView({ block: "nearest" });
              }
              if (event.key !== "Enter") return;
              // The same stroke must not press what opens next.
              event.preventDefault();
              take(found[at]);
            }}
            className="h-10 w-full border-b border-line bg-transparent px-3 text-[14px] outline-none placeholder:text-faint"
          />
          <ul id="found-steps" role="listbox" aria-label="Steps" className="max-h-72 overflow-y-auto p-1">
            {found.map((entry, index) => (
              <li
                key={entry.key}
                id={`step-${entry.key}`}
                role="option"
                aria-selected={index === at}
                onPointerMove={() => setAt(index)}
                onClick={() => take(entry)}
                className={`grid cursor-default grid-cols-[120px_1fr_auto] items-baseline gap-3 rounded-sm px-2 py-1.5 ${index === at ? "bg-raised" : ""}`}
              >
                <span className={index === at ? "text-lichen" : "text-text"}>{entry.name}</span>
                <span className="truncate text-[12px] text-dim">{entry.text}</span>
                <span className="text-[11px] text-faint">{entry.family}</span>
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
