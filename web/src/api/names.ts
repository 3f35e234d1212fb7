/** Names of items and deliverables. */
export const ITEM_NAME = /^[a-z][a-z0-9_]{0,62}$/;

export const LONGEST_NAME = 63;

/** What was typed, as a name may be: capitals small, anything else between words a `_`. */
export function asName(typed: string): string {
  return typed
    .normalize("NFKD")
    .replace(/\p{M}/gu, "")
    .toLowerCase()
    .replace(/[^a-z0-9_]+/g, "_")
    .replace(/^[^a-z]+/, "")
    .slice(0, LONGEST_NAME);
}
