import { useEffect, useRef } from "react";

import type { Recipe, Step } from "@/api/recipe";

import { copied, stepsIn } from "./copying";

interface Context {
  /** As it is saved, with its keys. */
  recipe: Recipe;
  /** The steps that are copied: those picked together, or the one in focus. */
  steps: string[];
  writable: boolean;
  paste: (steps: Step[]) => void;
}

const typing = (event: Event) =>
  event.target instanceof Element &&
  event.target.closest("input, textarea, [contenteditable=true], [role=dialog]") !== null;

/** Copy puts the step in focus, with what it needs, on the clipboard as text; paste takes steps from there. */
export function useClipboard(context: Context): void {
  const latest = useRef(context);
  latest.current = context;
  useEffect(() => {
    const copy = (event: ClipboardEvent) => {
      const { recipe, steps } = latest.current;
      if (typing(event) || !window.getSelection()?.isCollapsed) return;
      const text = copied(recipe, steps, true);
      if (!text) return;
      event.preventDefault();
      event.clipboardData?.setData("text/plain", text);
    };
    const paste = (event: ClipboardEvent) => {
      if (typing(event) || !latest.current.writable) return;
      const steps = stepsIn(event.clipboardData?.getData("text/plain") ?? "");
      if (!steps) return;
      event.preventDefault();
      latest.current.paste(steps);
    };
    document.addEventListener("copy", copy);
    document.addEventListener("paste", paste);
    return () => {
      document.removeEventListener("copy", copy);
      document.removeEventListener("paste", paste);
    };
  }, []);
}

/** Put a text on the clipboard, where the browser has no other way too. */
export async function toClipboard(text: string): Promise<void> {
  // Only pages of one's own machine, or over TLS, are given it.
  const clipboard = navigator.clipboard as Clipboard | undefined;
  if (clipboard) return clipboard.writeText(text);
  const field = document.createElement("textarea");
  field.value = text;
  document.body.append(field);
  field.select();
  document.execCommand("copy");
  field.remove();
}
