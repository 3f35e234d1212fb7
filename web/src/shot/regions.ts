/** The parts of a shot's page that the keys go to, from left to right. */
const REGIONS = {
  channels: '[aria-label="Channels"]',
  stage: '[aria-label="Stage"]',
  settings: '[aria-label="Bench"]',
  lineage: '[aria-label="Lineage"]',
} as const;
export type Region = keyof typeof REGIONS;

const FOCUSABLE =
  "[role=slider], button:not(:disabled), input:not(:disabled):not([type=file]), textarea, [tabindex='0']";

/** Where the focus goes in a region: to what is chosen there, else to what comes first. */
function entryOf(region: Region): HTMLElement | null {
  const place = document.querySelector<HTMLElement>(REGIONS[region]);
  if (!place) return null;
  const chosen = place.querySelector<HTMLElement>(
    '[data-tile][aria-pressed="true"], [data-item][aria-current="true"]',
  );
  const first =
    region === "channels"
      ? "[data-tile]"
      : region === "settings"
        ? "[data-settings] :is(" + FOCUSABLE + ")"
        : FOCUSABLE;
  return (
    chosen ??
    (region === "stage" ? place : null) ??
    place.querySelector<HTMLElement>(first) ??
    place.querySelector<HTMLElement>(FOCUSABLE)
  );
}

/** Where the keys went last: what had the focus there may be gone by now, drawn anew. */
let last: Region | null = null;

export function visit(region: Region): void {
  entryOf(region)?.focus();
  last = region;
}

/** The next region, or the one before, from where the focus is. */
export function visitNext(turn: 1 | -1): void {
  const names = (Object.keys(REGIONS) as Region[]).filter(entryOf);
  const focused = names.findIndex((name) => document.activeElement?.closest(REGIONS[name]));
  const lost = document.activeElement === document.body && last ? names.indexOf(last) : -1;
  const at = focused < 0 ? lost : focused;
  const from = at < 0 && turn < 0 ? 0 : at;
  const next = names.at((from + turn) % names.length);
  if (next) visit(next);
}

/** The first setting of the step in focus, unless the hand has gone elsewhere since `held` had the focus. */
export function visitFirstSetting(held: Element | null): void {
  const now = document.activeElement;
  if (now && now !== held && now !== document.body) return;
  document.querySelector<HTMLElement>(`[data-settings] :is(${FOCUSABLE})`)?.focus();
}
