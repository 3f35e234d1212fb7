import { type KeyboardEvent, useState } from "react";

import { Button } from "@/parts/Button";

const LONGEST = 2000;

interface Props {
  label: string;
  placeholder?: string;
  /** What the button says that sends them. */
  done: string;
  start?: string;
  /** Whether they arrived. */
  onWords: (text: string) => Promise<boolean>;
  onGiveUp?: () => void;
}

/** A few lines of text, sent by the button or Ctrl and Enter; what could not be sent stays. */
export function Words({ label, placeholder, done, start = "", onWords, onGiveUp }: Props) {
  const [text, setText] = useState(start);
  const [busy, setBusy] = useState(false);
  const empty = !text.trim() || busy;
  const send = async () => {
    if (empty) return;
    setBusy(true);
    try {
      if (await onWords(text)) setText("");
    } finally {
      setBusy(false);
    }
  };
  const press = (event: KeyboardEvent) => {
    if (event.key === "Enter" && (event.ctrlKey || event.metaKey)) void send();
    else if (event.key === "Escape" && onGiveUp) onGiveUp();
    else return;
    event.stopPropagation();
    event.preventDefault();
  };
  return (
    <div className="space-y-1.5">
      <textarea
        aria-label={label}
        placeholder={placeholder}
        value={text}
        maxLength={LONGEST}
        rows={3}
        autoFocus={onGiveUp !== undefined}
        onChange={(event) => setText(event.target.value)}
        onKeyDown={press}
        className="block w-full resize-y rounded-sm border border-line bg-raised px-2 py-1 text-text placeholder:text-faint"
      />
      <div className="flex justify-end gap-1.5">
        {onGiveUp && <Button onClick={onGiveUp}>Cancel</Button>}
        <Button title={`${done} (Ctrl Enter)`} disabled={empty} onClick={() => void send()}>
          {done}
        </Button>
      </div>
    </div>
  );
}
