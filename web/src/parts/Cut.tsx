const TAIL = 6;

/** A name in the room that there is: cut in the middle, since names often differ at their ends. */
export function Cut({ text, className = "" }: { text: string; className?: string }) {
  if (text.length <= TAIL + 3)
    return (
      <span className={`truncate ${className}`} title={text}>
        {text}
      </span>
    );
  return (
    <span className={`flex min-w-0 overflow-hidden ${className}`} title={text}>
      <span className="truncate whitespace-pre">{text.slice(0, -TAIL)}</span>
      <span className="shrink-0 whitespace-pre">{text.slice(-TAIL)}</span>
    </span>
  );
}
