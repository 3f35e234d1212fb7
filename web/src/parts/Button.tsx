import type { ButtonHTMLAttributes } from "react";

import { tipOf } from "./tips";

interface Props extends ButtonHTMLAttributes<HTMLButtonElement> {
  /** Pressed or chosen. */
  lit?: boolean;
  /** The one action that a panel is there for. */
  main?: boolean;
  quiet?: boolean;
  /** It overwrites or deletes what is there: it is pressed by whoever means it, never by Enter as a dialog opens. */
  overwrites?: boolean;
}

export function Button({
  lit,
  main,
  quiet,
  overwrites,
  className = "",
  type = "button",
  title,
  ...rest
}: Props) {
  const look = main
    ? "bg-lichen text-on-lichen border-lichen font-medium"
    : lit
      ? "bg-raised border-faint text-text"
      : quiet
        ? "border-transparent text-dim hover:text-text"
        : "border-line text-dim hover:text-text hover:border-faint";
  return (
    <button
      type={type}
      aria-pressed={lit}
      data-main={main || undefined}
      data-overwrites={overwrites || undefined}
      // What stands in a tooltip of its own needs no second one.
      title={title ?? ("data-state" in rest ? undefined : (rest["aria-label"] ?? tipOf(rest.children)))}
      className={`inline-flex h-6 shrink-0 items-center justify-center gap-1 whitespace-nowrap rounded-sm border px-2 text-[12px] disabled:pointer-events-none disabled:opacity-40 ${look} ${className}`}
      {...rest}
    />
  );
}
