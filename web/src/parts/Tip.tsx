import { Tooltip } from "radix-ui";
import type { ReactNode } from "react";

/** A word for what has only a picture, with its key. */
export function Tip({ text, keys, children }: { text: string; keys?: string; children: ReactNode }) {
  return (
    <Tooltip.Root>
      <Tooltip.Trigger asChild>{children}</Tooltip.Trigger>
      <Tooltip.Portal>
        <Tooltip.Content
          sideOffset={6}
          className="z-50 rounded-sm border border-line bg-raised px-2 py-1 text-[12px] text-text shadow-lg"
        >
          {text}
          {keys && <kbd className="ml-2 font-mono text-dim">{keys}</kbd>}
        </Tooltip.Content>
      </Tooltip.Portal>
    </Tooltip.Root>
  );
}
