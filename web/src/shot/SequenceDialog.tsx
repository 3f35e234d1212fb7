import { Button } from "@/parts/Button";
import { Modal } from "@/parts/Modal";

import { runsOf, useAsked, worded } from "./sequences";

/** Asks about numbered files: whether they belong to those that are there, and before many are sent. */
export function SequenceDialog() {
  const { question, answer } = useAsked();
  if (!question) return null;
  const { sequence, into } = question;
  const numbers = [...sequence.files.keys()];
  const bytes = [...sequence.files.values()].reduce((sum, file) => sum + file.size, 0);
  const there = new Set((into?.frames?.numbers ?? []).flatMap(([from, to]) => span(from!, to!)));
  const both = numbers.filter((number) => there.has(number));
  return (
    <Modal
      title={numbers.length === 1 ? "A numbered file" : `${numbers.length} numbered files`}
      open
      onClose={() => answer("leave")}
    >
      <p className="mb-1 font-mono text-[12px]">{sequence.pattern}</p>
      <p className="mb-4 text-[12px] text-dim">
        {numbers.length === 1 ? "Number" : "Numbers"} {worded(runsOf(numbers))}, {size(bytes)} to be sent, and
        about {size(3 * bytes)} on the server&apos;s disk while they are unpacked.
        {into && ` This shot has ${into.files} with ${worded(into.frames?.numbers ?? [])} already.`}
        {both.length > 0 &&
          ` ${worded(runsOf(both))} ${both.length === 1 ? "is" : "are"} there and compared: what differs becomes
            version ${(into?.frames?.version ?? 1) + 1}; what was there stays with the revisions that read it.`}
      </p>
      <div className="flex justify-end gap-2">
        <Button onClick={() => answer("leave")}>Leave them out</Button>
        <Button main={!into} onClick={() => answer("new")}>
          {!into ? "Send them" : numbers.length === 1 ? "A picture by itself" : "A new source"}
        </Button>
        {into && (
          <Button main onClick={() => answer("add")}>
            Add to {into.files}
          </Button>
        )}
      </div>
    </Modal>
  );
}

const span = (from: number, to: number) => Array.from({ length: to - from + 1 }, (_, index) => from + index);
const size = (bytes: number) =>
  bytes > 1e9 ? `${(bytes / 1e9).toFixed(1)} GB` : `${Math.max(1, Math.round(bytes / 1e6))} MB`;
