import { type FormEvent, useState } from "react";

import { type ShotRow, api, got } from "@/api/client";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";
import { Modal } from "@/parts/Modal";
import { TextField } from "@/parts/TextField";
import { useAttempt } from "@/parts/useAttempt";

import { wordsIn } from "./wall";

interface Props {
  shot: ShotRow;
  /** The tags of the project's shots. */
  known: string[];
  onClose: () => void;
  onDone: () => Promise<void>;
}

/** The words that a shot is found and grouped by. */
export function TagsDialog({ shot, known, onClose, onDone }: Props) {
  const [text, setText] = useState(shot.tags.join(", "));
  const { problem, attempt } = useAttempt();
  const words = wordsIn(text);
  const has = (word: string) => words.some((other) => other.toLowerCase() === word.toLowerCase());
  const submit = (event: FormEvent) => {
    event.preventDefault();
    void attempt(async () => {
      await got(
        api.PUT("/api/shots/{shot_id}", {
          params: { path: { shot_id: shot.id } },
          body: { tags: words },
        }),
      );
      await onDone();
    });
  };
  return (
    <Modal title={`Tags of ${shot.name}`} open onClose={onClose} width={420}>
      <form onSubmit={submit} className="space-y-3 text-[12px]">
        <TextField
          label="Tags, parted by commas"
          value={text}
          autoFocus
          maxLength={600}
          placeholder="glass, night work"
          onChange={(event) => setText(event.target.value)}
        />
        {known.length > 0 && (
          <div
            role="group"
            aria-label="Tags of this project"
            className="flex max-h-28 flex-wrap gap-1 overflow-y-auto"
          >
            {known.map((word) => (
              <Button
                key={word}
                lit={has(word)}
                onClick={() =>
                  setText(
                    (has(word)
                      ? words.filter((other) => other.toLowerCase() !== word.toLowerCase())
                      : [...words, word]
                    ).join(", "),
                  )
                }
              >
                {word}
              </Button>
            ))}
          </div>
        )}
        {problem && <Message problem={problem} />}
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button main type="submit">
            Set the tags
          </Button>
        </div>
      </form>
    </Modal>
  );
}
