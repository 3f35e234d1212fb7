import { MoreHorizontal } from "lucide-react";

import { type Choice, Menu } from "./Menu";

/** Three dots, behind which lies what can be done with something. */
export function MoreButton({ label, choices }: { label: string; choices: Choice[] }) {
  return (
    <Menu choices={choices}>
      <button
        type="button"
        aria-label={label}
        title={label}
        className="flex h-6 w-6 items-center justify-center rounded-sm text-dim hover:bg-raised hover:text-text"
      >
        <MoreHorizontal size={14} />
      </button>
    </Menu>
  );
}
