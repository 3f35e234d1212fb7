import type { ShotRow } from "@/api/client";

export type State = ShotRow["state"];

export const STATES: Record<State, string> = {
  todo: "to do",
  work: "at work",
  review: "to review",
  done: "done",
};

export const SORTS = [
  { value: "name", label: "By name" },
  { value: "changed", label: "Last changed first" },
] as const;

export const GROUPS = [
  { value: "none", label: "All together" },
  { value: "number", label: "By number" },
  { value: "state", label: "By state" },
  { value: "tag", label: "By tag" },
] as const;

export type Sort = (typeof SORTS)[number]["value"];
export type Group = (typeof GROUPS)[number]["value"];

export interface Order {
  find: string;
  sort: Sort;
  group: Group;
  aside: boolean;
}

/** The shots that are asked for, in groups with their titles; one without a title where they stand together. */
export function arranged(shots: readonly ShotRow[], order: Order): [string, ShotRow[]][] {
  const words = order.find.toLowerCase().split(/\s+/).filter(Boolean);
  const found = shots.filter((shot) => {
    const text = [shot.name, ...shot.tags].join("\n").toLowerCase();
    return shot.archived === order.aside && words.every((word) => text.includes(word));
  });
  const names = new Intl.Collator("en", { numeric: true, sensitivity: "base" });
  found.sort(
    (a, b) =>
      (order.sort === "changed" ? (b.changed ?? "").localeCompare(a.changed ?? "") : 0) ||
      names.compare(a.name, b.name),
  );
  if (order.group === "none") return found.length ? [["", found]] : [];
  // A shot of several tags stands in each of their groups.
  const titlesOf = {
    state: (shot: ShotRow) => [STATES[shot.state]],
    number: (shot: ShotRow) => [tensOf(shot)],
    tag: (shot: ShotRow) => (shot.tags.length ? shot.tags.map((tag) => tag.toLowerCase()) : [UNTAGGED]),
  }[order.group];
  const titles = [...new Set(found.flatMap(titlesOf))];
  if (order.group === "state") {
    const states = Object.values(STATES);
    titles.sort((a, b) => states.indexOf(a) - states.indexOf(b));
  } else titles.sort((a, b) => Number(a === UNTAGGED) - Number(b === UNTAGGED) || names.compare(a, b));
  return titles.map((title) => [title, found.filter((shot) => titlesOf(shot).includes(title))]);
}

const UNTAGGED = "without a tag";

/** Every tag of some shots, once, in order. */
export function tagsOf(shots: readonly ShotRow[]): string[] {
  const known = new Map(shots.flatMap((shot) => shot.tags).map((tag) => [tag.toLowerCase(), tag]));
  return [...known.values()].sort((a, b) => a.localeCompare(b));
}

/** Words parted by commas, each once. */
export function wordsIn(text: string): string[] {
  const words = text.split(",").map((word) => word.trim().replace(/\s+/g, " "));
  return [...new Map(words.filter(Boolean).map((word) => [word.toLowerCase(), word])).values()];
}

/** The ten numbers that a shot's leading number is among, such as 040 to 049. */
function tensOf(shot: ShotRow): string {
  const digits = /^\d+/.exec(shot.name)?.[0];
  if (!digits) return "without a number";
  const first = Math.floor(Number(digits) / 10) * 10;
  const told = (number: number) => String(number).padStart(3, "0");
  return `${told(first)} to ${told(first + 9)}`;
}

/** A name like this one that no shot has. */
export function freeShotName(name: string, shots: readonly ShotRow[]): string {
  const taken = new Set(shots.map((shot) => shot.name.toLowerCase()));
  for (let number = 2; ; number += 1) {
    const made = `${name.slice(0, 110)} (${number})`;
    if (!taken.has(made.toLowerCase())) return made;
  }
}

/** Bytes as people say them. */
export function bytesText(bytes: number): string {
  const units = ["bytes", "kB", "MB", "GB", "TB"];
  let unit = 0;
  let value = bytes;
  for (; value >= 1000 && unit < units.length - 1; unit += 1) value /= 1000;
  return `${unit && value < 10 ? value.toFixed(1) : Math.round(value)} ${units[unit]}`;
}
