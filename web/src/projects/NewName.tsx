import { type FormEvent, useState } from "react";

import { type Problem, problemOf } from "@/api/client";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";
import { Modal } from "@/parts/Modal";
import { TextField } from "@/parts/TextField";

interface Props {
  title: string;
  example: string;
  /** What it is called so far, or could be called. */
  before?: string;
  /** What the button says. */
  action?: string;
  onClose: () => void;
  onMake: (name: string) => Promise<void>;
}

/** Ask for the name of something new, or for another one. */
export function NewName({ title, example, before = "", action = "Start", onClose, onMake }: Props) {
  const [name, setName] = useState(before);
  const [problem, setProblem] = useState<Problem | null>(null);
  const submit = async (event: FormEvent) => {
    event.preventDefault();
    try {
      await onMake(name.trim());
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  return (
    <Modal title={title} open onClose={onClose} width={340}>
      <form onSubmit={(event) => void submit(event)} className="space-y-3">
        <TextField
          label="Name"
          autoFocus
          required
          maxLength={120}
          placeholder={example}
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
        {problem && <Message problem={problem} />}
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button main type="submit" disabled={!name.trim()}>
            {action}
          </Button>
        </div>
      </form>
    </Modal>
  );
}
