const FIELDS = "input:not([type=checkbox], [type=radio], [type=file], [type=color]), textarea, select";

/** Whether a key belongs to what has the focus: something is typed there, or chosen from an open list. */
export function isTyping(target: EventTarget | null): boolean {
  return (
    target instanceof Element &&
    target.closest(`${FIELDS}, [contenteditable=true], [role=dialog], [role=menu], [role=listbox]`) !== null
  );
}
