import { useState } from "react";

import { Modal } from "@/parts/Modal";

import { KEYS } from "./keys";

/** Keys and gestures, searched by what they do. */
export function Help({ open, onClose }: { open: boolean; onClose: () => void }) {
  const [text, setText] = useState("");
  const found = KEYS.filter((row) => row.join(" ").toLowerCase().includes(text.trim().toLowerCase()));
  return (
    <Modal title="Keys" open={open} onClose={onClose} width={520}>
      <input
        autoFocus
        aria-label="Search the keys"
        placeholder="What do you want to do?"
        value={text}
        onChange={(event) => setText(event.target.value)}
        className="mb-3 h-7 w-full rounded-sm border border-line bg-raised px-2 text-[13px] placeholder:text-faint"
      />
      <dl className="grid grid-cols-[150px_1fr] gap-y-1.5 text-[12px]">
        {found.map(([keys, what]) => (
          <div key={`${keys} ${what}`} className="contents">
            <dt>
              <kbd className="font-mono text-lichen">{keys}</kbd>
            </dt>
            <dd className="text-text">{what}</dd>
          </div>
        ))}
      </dl>
      {found.length === 0 && <p className="text-[12px] text-dim">No key does that.</p>}
    </Modal>
  );
}
