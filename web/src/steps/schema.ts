/** The part of JSON Schema that operations use, with their hints. */
export interface SettingSchema {
  type?: string;
  enum?: string[];
  default?: unknown;
  description?: string;
  minimum?: number;
  maximum?: number;
  exclusiveMinimum?: number;
  exclusiveMaximum?: number;
  low?: number;
  high?: number;
  step?: number;
  unit?: string;
  widget?: string;
  anyOf?: SettingSchema[];
  const?: string;
  /** The setting without which, at its default, this one does nothing. */
  beside?: string;
  /** Whether the colour can be picked from the picture. */
  sampled?: boolean;
}

export type Kind =
  | "number"
  | "integer"
  | "switch"
  | "choice"
  | "numbers"
  | "channels"
  | "channelNumbers"
  | "routes"
  | "expressions"
  | "numberOrWord"
  | "optionalInteger"
  | "text"
  | "meanings"
  | "inkProfile"
  | "movement"
  | "rows"
  | "ids"
  | "other";

export function kindOf(schema: SettingSchema): Kind {
  if (schema.widget === "channel_numbers") return "channelNumbers";
  if (schema.widget === "routes") return "routes";
  if (schema.widget === "channels") return "channels";
  if (schema.widget === "expressions") return "expressions";
  if (["colour", "point", "triple", "place", "sizes"].includes(schema.widget ?? "")) return "numbers";
  if (schema.widget === "rows") return "rows";
  if (schema.widget === "ids") return "ids";
  if (schema.widget === "meanings") return "meanings";
  if (schema.widget === "ink_profile") return "inkProfile";
  if (schema.widget === "movement") return "movement";
  if (wordOf(schema)) return "numberOrWord";
  if (
    schema.anyOf?.some((part) => part.type === "integer") &&
    schema.anyOf.some((part) => part.type === "null")
  )
    return "optionalInteger";
  if (schema.enum) return "choice";
  if (schema.type === "boolean") return "switch";
  if (schema.type === "integer") return "integer";
  if (schema.type === "number") return "number";
  if (schema.type === "string") return "text";
  return "other";
}

/** The one word that may stand for a number, such as `all`. */
export function wordOf(schema: SettingSchema): string | undefined {
  return schema.anyOf?.find((part) => part.const !== undefined)?.const;
}

/** A setting's name in words. */
export function wordsOf(name: string): string {
  return (name.charAt(0).toUpperCase() + name.slice(1)).replaceAll("_", " ");
}
