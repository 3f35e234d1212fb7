const minute = new Intl.DateTimeFormat("en-GB", { dateStyle: "medium", timeStyle: "short" });
const date = new Intl.DateTimeFormat("en-GB", { dateStyle: "medium" });

/** A moment, as it is read: day and minute. */
export function when(moment: string): string {
  return minute.format(new Date(moment));
}

/** The day of a moment. */
export function day(moment: string): string {
  return date.format(new Date(moment));
}
