const format = new Intl.DateTimeFormat("en-GB", { dateStyle: "medium", timeStyle: "short" });

/** A moment, as it is read: day and minute. */
export function when(moment: string): string {
  return format.format(new Date(moment));
}
