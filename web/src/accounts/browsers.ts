// The more particular first: most browsers also say the names of others.
const BROWSERS: [RegExp, string][] = [
  [/Edg\//, "Edge"],
  [/OPR\//, "Opera"],
  [/Firefox\//, "Firefox"],
  [/Chrom(e|ium)\//, "Chrome"],
  [/Safari\//, "Safari"],
];
const SYSTEMS: [RegExp, string][] = [
  [/Android/, "Android"],
  [/iPhone|iPad/, "iOS"],
  [/Windows/, "Windows"],
  [/Mac OS X/, "macOS"],
  [/Linux|X11/, "Linux"],
];

const named = (said: string, names: [RegExp, string][]) => names.find(([sign]) => sign.test(said))?.[1];

/** A browser and its system, from what it says of itself. */
export function browserWords(said: string): string {
  const browser = named(said, BROWSERS) ?? "A browser";
  const system = named(said, SYSTEMS);
  return system ? `${browser} on ${system}` : browser;
}
