import type { OperationRow } from "@/api/client";
import { wordsOf } from "@/steps/schema";

import { jobPage, stepPage } from "./helpState";
import type { HowTo } from "./howtos";
import { KEYS } from "./keys";

export type Entry =
  | { id: string; kind: "how to"; title: string; howTo: HowTo }
  | { id: string; kind: "keys"; title: string; rows: typeof KEYS }
  | { id: string; kind: "step"; title: string; operation: OperationRow };

/** What is searched of an operation: its name, its text, its ports and its settings. */
function wordsIn(operation: OperationRow): string {
  const settings = operation.settings as Record<string, { description?: string }>;
  return [
    operation.op.replaceAll("_", " "),
    operation.needs,
    operation.text,
    ...operation.ports.map((port) => port.text),
    ...Object.entries(settings).map(([name, schema]) => `${wordsOf(name)} ${schema.description ?? ""}`),
  ].join("\n");
}

/** The pages of the help that have every word, those first whose title does; and of the keys those rows alone. */
export function entriesFor(text: string, howTos: HowTo[], operations: OperationRow[]): Entry[] {
  const words = text.toLowerCase().split(/\s+/).filter(Boolean);
  const has = (where: string) => {
    const lower = where.toLowerCase();
    return words.every((word) => lower.includes(word));
  };
  const rows = KEYS.filter((row) => has(row.join(" ")));
  const found: { entry: Entry; rank: number }[] = [];
  const add = (entry: Entry, searched: string) => {
    if (has(entry.title)) found.push({ entry, rank: 0 });
    else if (has(searched)) found.push({ entry, rank: 1 });
  };
  for (const howTo of howTos)
    add({ id: jobPage(howTo.title), kind: "how to", title: howTo.title, howTo }, howTo.text);
  if (rows.length)
    found.push({ entry: { id: "keys", kind: "keys", title: "Keys", rows }, rank: words.length ? 0 : 1 });
  const steps = [...operations].sort((a, b) => a.op.localeCompare(b.op));
  for (const operation of steps)
    add(
      { id: stepPage(operation.op), kind: "step", title: wordsOf(operation.op), operation },
      wordsIn(operation),
    );
  // Where nothing was typed, jobs first, then keys, then steps; else the nearest first.
  return (words.length ? found.sort((a, b) => a.rank - b.rank) : found).map((each) => each.entry);
}
