import type { InputHTMLAttributes } from "react";

interface Props extends InputHTMLAttributes<HTMLInputElement> {
  label: string;
}

/** A line of text with its name above. */
export function TextField({ label, className = "", ...rest }: Props) {
  return (
    <label className="block text-[12px] text-dim">
      {label}
      <input
        className={`mt-1 block h-7 w-full rounded-sm border border-line bg-raised px-2 text-[13px] text-text placeholder:text-faint ${className}`}
        {...rest}
      />
    </label>
  );
}
