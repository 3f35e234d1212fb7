import type { ReactNode } from "react";

/** What buttons do whose word alone does not say it, and their keys. */
const TIPS: Record<string, string> = {
  "Keys ?": "Keys and gestures (?)",
  More: "Recipe, brightness, sign out",
  "Turn round": "Invert the step in focus (N)",
  "Turn off": "Leave the step out for now (O)",
  "Turn on": "Take the step in again (O)",
  "Touch up": "Paint white or black over a matte (T)",
  "Draw shapes": "Draw a closed curve on the picture",
  clear: "Take all marks of this picture away",
  mute: "Leave this pass out of the sum",
  solo: "Only this pass, and others that are solo",
  Audit: "Find which layers add up to the full picture",
  "Take as steps": "Put the sum and what is left into the lineage",
  Render: "Compute and write the file",
};

function wordsIn(children: ReactNode): string {
  if (typeof children === "string" || typeof children === "number") return String(children);
  return Array.isArray(children) ? children.map(wordsIn).join("").trim() : "";
}

/** What a button says of itself while the pointer rests on it. */
export function tipOf(children: ReactNode): string | undefined {
  const words = wordsIn(children);
  return TIPS[words] ?? (words || undefined);
}
