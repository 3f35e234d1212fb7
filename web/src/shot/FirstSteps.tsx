import { useRef } from "react";
import { useSearchParams } from "react-router";

import { jobPage, useHelp } from "@/help/helpState";
import { FileInput } from "@/parts/FileInput";
import { Button } from "@/parts/Button";

import { useImport } from "./sources";

interface Beginning {
  /** What the bench is for. */
  purpose: string;
  steps: string[];
  /** The job of the help that tells more. */
  job: string;
}

const BEGINNINGS: Record<string, Beginning> = {
  mattes: {
    purpose: "A matte from the channels that a picture has.",
    steps: [
      "Add a picture: on the left each of its channels becomes a tile.",
      "Drag one tile onto another to cross them; or mark what is to stay and what is behind it, and the scout ranks every pair.",
      "A picture before a coloured screen is recognised, and its whole matte is one click away.",
    ],
    job: "Scout",
  },
  passes: {
    purpose: "The passes of a render, balanced and put together again.",
    steps: [
      "Add a render with its layers in one EXR, or its passes as files of their own.",
      "The audit finds which layers add up to the full picture, and makes steps of it.",
      "The desk has a strip for each: exposure, tint, mute, solo.",
    ],
    job: "Passes",
  },
  space: {
    purpose: "Depth, positions, normals and ids of a render, put to use.",
    steps: [
      "Add a render that holds them; what each measures is told.",
      "Take slices, fog, focus and light as steps; their limits are handles in the scene from the side.",
    ],
    job: "Space",
  },
  edges: {
    purpose: "What soft edges hold, and halos taken away.",
    steps: [
      "Add a picture with alpha, or picture and alpha as two files.",
      "The diagnosis tells whether it is straight, premultiplied or matted with a colour, and offers the cure.",
    ],
    job: "Edges",
  },
  packing: {
    purpose: "Masks, built and packed into the channels of a texture.",
    steps: [
      "Add a template, masks or a base colour: they give the texture its size.",
      "Choose a layout on the right: each of its channels gets a bay of bars laid in by masks.",
    ],
    job: "Packing",
  },
};

/** What to do first on a bench, where the shot holds nothing yet. */
export function FirstSteps({ writable }: { writable: boolean }) {
  const bench = useSearchParams()[0].get("bench") ?? "mattes";
  const begin = BEGINNINGS[bench] ?? BEGINNINGS.mattes!;
  const picker = useRef<HTMLInputElement>(null);
  const importFiles = useImport();
  const show = useHelp((state) => state.show);
  return (
    <div className="flex grow items-center justify-center overflow-y-auto bg-stage p-6">
      <section
        aria-label="First steps"
        className="max-w-md rounded-sm border border-line bg-panel p-5 text-[13px]"
      >
        <h2 className="mb-2 text-[15px] font-semibold">{begin.purpose}</h2>
        {writable ? (
          <>
            <ol className="mb-4 list-decimal space-y-1.5 pl-5 text-dim marker:font-mono marker:text-faint">
              {begin.steps.map((step) => (
                <li key={step}>{step}</li>
              ))}
            </ol>
            <div className="flex flex-wrap items-center gap-2">
              <Button main onClick={() => picker.current?.click()}>
                Add pictures…
              </Button>
              <span className="text-[12px] text-faint">or drop them anywhere; a recipe, too</span>
              <span className="grow" />
              <Button quiet title="This job, in the help" onClick={() => show(jobPage(begin.job))}>
                More
              </Button>
            </div>
            <FileInput picker={picker} multiple onFiles={(files) => void importFiles(files)} />
          </>
        ) : (
          <p className="text-dim">Nothing is in this shot yet. Its artists will add pictures.</p>
        )}
      </section>
    </div>
  );
}
