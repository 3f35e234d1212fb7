import { X } from "lucide-react";
import type { ReactNode } from "react";

import { useHints } from "./hints";

/** A line at the control that it is about; all of them can be put away, and come back from the menu. */
export function Hint({ children, className = "" }: { children: ReactNode; className?: string }) {
  const { on, set } = useHints();
  if (!on) return null;
  return (
    <p
      role="note"
      className={`flex items-start gap-2 border-l-2 border-lichen bg-raised px-2 py-1 text-[12px] leading-snug text-dim ${className}`}
    >
      <span className="grow">{children}</span>
      <button
        type="button"
        aria-label="Hide all hints"
        title="Hide all hints; the menu More shows them again"
        onClick={() => set(false)}
        className="shrink-0 pt-0.5 text-faint hover:text-text"
      >
        <X size={12} />
      </button>
    </p>
  );
}
