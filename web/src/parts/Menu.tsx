import { DropdownMenu } from "radix-ui";
import type { ReactNode } from "react";

export interface Choice {
  label: string;
  keys?: string;
  onSelect: () => void;
  disabled?: boolean;
  danger?: boolean;
}

/** Choices of a menu, or what makes them when it opens. */
type Choices = Choice[] | (() => Choice[]);

/** A menu under its trigger. */
export function Menu({ choices, children }: { choices: Choices; children: ReactNode }) {
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
          <Content choices={choices} />
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

function Content({ choices }: { choices: Choices }) {
  return (typeof choices === "function" ? choices() : choices).map((choice) => (
    <DropdownMenu.Item
      key={choice.label}
      disabled={choice.disabled}
      onSelect={choice.onSelect}
      className={`flex cursor-default justify-between gap-6 rounded-sm px-2 py-1 text-[12px] outline-none data-[disabled]:opacity-40 data-[highlighted]:bg-line ${choice.danger ? "text-ember" : ""}`}
    >
      {choice.label}
      {choice.keys && <kbd className="font-mono text-dim">{choice.keys}</kbd>}
    </DropdownMenu.Item>
  ));
}
