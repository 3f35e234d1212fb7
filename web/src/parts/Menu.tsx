import { DropdownMenu } from "radix-ui";
import type { ReactNode } from "react";

export interface Choice {
  label: string;
  keys?: string;
  onSelect: () => void;
  disabled?: boolean;
  danger?: boolean;
}

/** A menu under its trigger. */
export function Menu({ choices, children }: { choices: Choice[]; children: ReactNode }) {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger asChild>{children}</DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          sideOffset={4}
          collisionPadding={8}
          onCloseAutoFocus={(event) => {
            // A dialog that a choice has opened has the focus already.
            if (document.querySelector("[role=dialog]")) event.preventDefault();
          }}
          className="z-50 min-w-44 rounded-sm border border-line bg-raised p-1 shadow-xl"
        >
          {choices.map((choice) => (
            <DropdownMenu.Item
              key={choice.label}
              disabled={choice.disabled}
              onSelect={choice.onSelect}
              className={`flex cursor-default justify-between gap-6 rounded-sm px-2 py-1 text-[12px] outline-none data-[disabled]:opacity-40 data-[highlighted]:bg-line ${choice.danger ? "text-ember" : ""}`}
            >
              {choice.label}
              {choice.keys && <kbd className="font-mono text-dim">{choice.keys}</kbd>}
            </DropdownMenu.Item>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
