import { create } from "zustand";

import type { SourceRow } from "@/api/client";
import type { SourceSpec } from "@/api/recipe";

/** Numbered files that belong together. */
export interface Sequence {
  /** Their name, with `%04d` where the number stands. */
  pattern: string;
  files: Map<number, File>;
}

/** Before a number a dash is its sign where it stands by itself, as in moth.-3.exr; in moth-3.exr it links. */
const NUMBERED = /^(.*?)((?<=^|[._ ])-\d{1,9}|\d{1,9})(\.[^.\d][^.]*)$/;
const isPadded = (digits: string) => /^-?0/.test(digits);

/** Files as they belong together: two or more that differ in their number alone are a sequence. */
export function grouped(files: readonly File[]): { sequences: Sequence[]; single: File[] } {
  const families = new Map<
    string,
    { lead: string; suffix: string; parts: { digits: string; file: File }[] }
  >();
  const single: File[] = [];
  for (const file of files) {
    const found = NUMBERED.exec(file.name);
    if (!found) {
      single.push(file);
      continue;
    }
    const [, lead, digits, suffix] = found as unknown as [string, string, string, string];
    const key = `${lead}\n${suffix.toLowerCase()}`;
    const family = families.get(key) ?? { lead, suffix, parts: [] };
    family.parts.push({ digits, file });
    families.set(key, family);
  }
  const sequences: Sequence[] = [];
  for (const { lead, suffix, parts } of families.values()) {
    const byPadding = new Map<number, Map<number, File>>();
    for (const { digits, file } of parts) {
      const padding = paddingOf(digits, parts);
      const numbers = byPadding.get(padding) ?? new Map<number, File>();
      numbers.set(Number(digits), file);
      byPadding.set(padding, numbers);
    }
    for (const [padding, numbers] of byPadding) {
      if (numbers.size < 2) single.push(...numbers.values());
      else
        sequences.push({
          pattern: `${lead}%${padding > 1 ? `${String(padding).padStart(2, "0")}d` : "d"}${suffix}`,
          files: new Map([...numbers].sort((a, b) => a[0] - b[0])),
        });
    }
  }
  return { sequences, single };
}

/** What a recipe says of a source that reads the newest frames of an import. */
export function newestOf(row: Pick<SourceRow, "files" | "frames">): Pick<SourceSpec, "files" | "version"> {
  const version = row.frames?.version ?? 1;
  return version > 1 ? { files: row.files, version } : { files: row.files };
}

/** The number that a file's name has as one of a pattern's; null where it is none of them. */
export function numberIn(pattern: string, name: string): number | null {
  const [, lead, padding, suffix] = /^(.*)%(\d*)d(.*)$/.exec(pattern) ?? [];
  if (lead === undefined || suffix === undefined) return null;
  const found = NUMBERED.exec(name);
  if (!found || found[1] !== lead || found[3]!.toLowerCase() !== suffix.toLowerCase()) return null;
  const digits = found[2]!;
  const width = Number(padding || 1);
  return digits.length === width || (digits.length > width && !isPadded(digits)) ? Number(digits) : null;
}

/** Numbered files as frames of a source, whatever they are called before their numbers. */
export function asFrames(pattern: string, files: readonly File[]): { sequence: Sequence; others: File[] } {
  const numbers = new Map<number, File>();
  const others: File[] = [];
  for (const file of files) {
    const found = NUMBERED.exec(file.name);
    if (found && !numbers.has(Number(found[2]))) numbers.set(Number(found[2]), file);
    else others.push(file);
  }
  return { sequence: { pattern, files: new Map([...numbers].sort((a, b) => a[0] - b[0])) }, others };
}

/** How many digits the numbers of its kind are filled up to: numbers with noughts before them tell; else none are. */
function paddingOf(digits: string, parts: readonly { digits: string }[]): number {
  const padded = [
    ...new Set(parts.filter((part) => isPadded(part.digits)).map((part) => part.digits.length)),
  ];
  if (padded.includes(digits.length)) return digits.length;
  // One that has outgrown its padding belongs to the longest below it.
  const below = padded.filter((length) => length < digits.length);
  if (below.length) return Math.max(...below);
  const lengths = new Set(
    parts
      .filter((part) => !part.digits.startsWith("-"))
      .filter((part) => !padded.includes(part.digits.length))
      .map((part) => part.digits.length),
  );
  return lengths.size === 1 && !padded.length ? digits.length : 1;
}

/** Numbers as ranges of those that follow each other. */
export function runsOf(numbers: readonly number[]): [number, number][] {
  const runs: [number, number][] = [];
  for (const number of numbers) {
    const last = runs.at(-1);
    if (last && last[1] === number - 1) last[1] = number;
    else runs.push([number, number]);
  }
  return runs;
}

export const worded = (runs: readonly (readonly number[])[]): string =>
  runs.map(([from, to]) => (from === to ? `${from}` : `${from}–${to}`)).join(", ");

/** What is to become of numbered files: added to a source that is there, a new one, or nothing. */
export type Wish = "add" | "new" | "leave";

interface Asked {
  question: { sequence: Sequence; into: SourceRow | null } | null;
  ask: (sequence: Sequence, into: SourceRow | null) => Promise<Wish>;
  answer: (wish: Wish) => void;
}

/** More files than this are asked about before they are sent. */
export const MANY = 300;

let settle: ((wish: Wish) => void) | null = null;

/** What is asked about numbered files that were dropped. */
export const useAsked = create<Asked>((set) => ({
  question: null,
  ask: (sequence, into) =>
    new Promise((resolve) => {
      settle?.("leave");
      settle = resolve;
      set({ question: { sequence, into } });
    }),
  answer: (wish) => {
    settle?.(wish);
    settle = null;
    set({ question: null });
  },
}));
