import type { ReactNode } from "react";

/** A setting: its name, and its control. */
export function Line({ label, title, children }: { label: string; title?: string; children: ReactNode }) {
  return (
    <div className="grid min-h-5 grid-cols-[84px_1fr] items-center gap-2">
      <span className="truncate text-[12px] text-dim" title={title}>
        {label}
      </span>
      <div className="flex min-w-0 items-center gap-2">{children}</div>
    </div>
  );
}
