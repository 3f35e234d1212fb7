import { Marked } from "marked";

import readme from "../../../README.md?raw";

const PICTURES = import.meta.glob<string>("../../../docs/screenshots/*.png", {
  query: "?url",
  import: "default",
  eager: true,
});

/** How a job is done: the tour of the README, which tells it once. */
export interface HowTo {
  title: string;
  /** Its paragraphs as HTML of our own making, and its pictures with what they show. */
  parts: ({ html: string } | { picture: string; shows: string })[];
  /** What is searched. */
  text: string;
}

// Links lead to files that are not here: their words are.
const markdown = new Marked({
  renderer: {
    link({ tokens }) {
      return this.parser.parseInline(tokens);
    },
  },
});

const LEAD = /^\*\*(.+?)\.?\*\*/;
const PICTURE = /^!\[(.*)\]\((.*)\)$/;

/** The how-tos of a text: each begins with words in bold, and goes on until the next. */
export function howTosOf(text: string): HowTo[] {
  const tour = /^## A tour\n([\s\S]*?)(?=^## )/m.exec(text)?.[1] ?? "";
  const found: HowTo[] = [];
  for (const block of tour.split(/\n{2,}/).map((part) => part.trim().replaceAll("\n", " "))) {
    const title = LEAD.exec(block)?.[1];
    if (title) found.push({ title, parts: [], text: "" });
    const last = found[found.length - 1];
    if (!last || !block) continue;
    const picture = PICTURE.exec(block);
    const file = picture && PICTURES[`../../../${picture[2]!}`];
    if (file) last.parts.push({ picture: file, shows: picture[1]! });
    else if (!picture) last.parts.push({ html: markdown.parseInline(block, { async: false }) });
    last.text += `${picture ? picture[1]! : block.replace(/[*`]/g, "")}\n`;
  }
  return found;
}

export const HOW_TOS = howTosOf(readme);
