import { useState } from "react";

import type { OperationRow } from "@/api/client";
import { Modal } from "@/parts/Modal";

import { wordsOf } from "./schema";

/** Pictures that a text is told with, and what they show. */
const PICTURES: Record<string, [file: string, shows: string][]> = {
  screen_solve: [
    [
      "rays",
      "Every pixel by how it departs from the green screen, which is the dot in the corner: across by green and " +
        "blue, upward by red. Feelers and the wings' edges lie along rays from the screen to a colour of the moth; " +
        "what is ringed lies at a ray's end, together with its like, and is solid.",
    ],
    [
      "palette",
      "The shot; where it is solid (white) or a strand (grey); and what colour each such place shows. Below, the " +
        "palette that comes of them: for all other pixels, alpha is what makes one of these colours over the screen, " +
        "within the noise, the likeliest.",
    ],
  ],
};

/** A text as paragraphs, and as lines of formula where it is set in. */
function partsOf(text: string): { formula: boolean; text: string }[] {
  const parts: { formula: boolean; text: string }[] = [];
  for (const line of text.split("\n")) {
    const formula = /^ {4}/.test(line);
    const last = parts[parts.length - 1];
    if (!line.trim()) parts.push({ formula: false, text: "" });
    else if (last && last.formula === formula && (formula || last.text))
      last.text += (formula ? "\n" : " ") + line.trim();
    else parts.push({ formula, text: line.trim() });
  }
  return parts.filter((part) => part.text);
}

/** What a step does, in a line, and by a click in full: its formula, its figures, where it comes from. */
export function AboutStep({ operation }: { operation: OperationRow }) {
  const [open, setOpen] = useState(false);
  const [first, ...more] = partsOf(operation.text);
  if (!first) return null;
  return (
    <p className="border-t border-line pt-3 text-[12px] leading-snug text-dim">
      {first.text}{" "}
      <button
        type="button"
        title="In full: its formula, its figures, where it comes from"
        className="whitespace-nowrap text-text underline decoration-line underline-offset-2 hover:decoration-lichen"
        onClick={() => setOpen(true)}
      >
        How it works
      </button>
      <Modal title={wordsOf(operation.op)} open={open} onClose={() => setOpen(false)} width={760}>
        <div className="space-y-3 text-[13px] leading-relaxed">
          <p>{first.text}</p>
          {PICTURES[operation.op]?.map(([file, shows]) => (
            <figure key={file} className="space-y-1.5">
              <img
                src={`${import.meta.env.BASE_URL}help/${file}.png`}
                alt=""
                className="w-full rounded-sm border border-line"
              />
              <figcaption className="text-[12px] leading-snug text-dim">{shows}</figcaption>
            </figure>
          ))}
          {more.map((part) =>
            part.formula ? (
              <pre
                key={part.text}
                className="overflow-x-auto rounded-sm border border-line bg-well px-2 py-1.5 font-mono text-[12px]"
              >
                {part.text}
              </pre>
            ) : (
              <p key={part.text}>{part.text.replaceAll("`", "")}</p>
            ),
          )}
          <dl className="grid grid-cols-[110px_1fr] gap-y-1 border-t border-line pt-3 text-[12px]">
            {operation.ports.map((port) => (
              <div key={port.name} className="contents">
                <dt className="text-dim">{wordsOf(port.name)}</dt>
                <dd>
                  {port.text}
                  {!port.required && <span className="text-faint"> (may be left out)</span>}
                </dd>
              </div>
            ))}
          </dl>
        </div>
      </Modal>
    </p>
  );
}
