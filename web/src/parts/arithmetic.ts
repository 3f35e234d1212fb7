/** What was typed as a number: its value, or why it has none. */
export type Calculated = { value: number } | { fault: string };

const TOKEN = /\s*(?:(\d+\.?\d*(?:e[+-]?\d+)?|\.\d+(?:e[+-]?\d+)?)|(\*\*|[-+*/^%()]))/iy;

/** The tokens of a text: numbers and signs; null where something else stands in it. */
function tokensOf(text: string): (number | string)[] | null {
  const tokens: (number | string)[] = [];
  TOKEN.lastIndex = 0;
  const end = text.trimEnd().length;
  while (TOKEN.lastIndex < end) {
    const found = TOKEN.exec(text);
    if (!found) return null;
    tokens.push(found[1] !== undefined ? Number(found[1]) : found[2] === "**" ? "^" : found[2]!);
  }
  return tokens;
}

class Unreadable extends Error {}

/** Sums of products of powers, with parentheses; `%` after a value divides it by 100. */
class Parser {
  private at = 0;

  constructor(private readonly tokens: (number | string)[]) {}

  whole(): number {
    const value = this.sum();
    if (this.at < this.tokens.length) throw new Unreadable();
    return value;
  }

  private take(...signs: string[]): string | null {
    const token = this.tokens[this.at];
    if (typeof token !== "string" || !signs.includes(token)) return null;
    this.at += 1;
    return token;
  }

  private sum(): number {
    let value = this.product();
    for (let sign = this.take("+", "-"); sign; sign = this.take("+", "-"))
      value = sign === "+" ? value + this.product() : value - this.product();
    return value;
  }

  private product(): number {
    let value = this.signed();
    for (let sign = this.take("*", "/"); sign; sign = this.take("*", "/")) {
      const by = this.signed();
      if (sign === "/" && by === 0) throw new RangeError("division by zero");
      value = sign === "*" ? value * by : value / by;
    }
    return value;
  }

  private signed(): number {
    const sign = this.take("+", "-");
    if (sign) return sign === "-" ? -this.signed() : this.signed();
    return this.power();
  }

  private power(): number {
    const base = this.part();
    // From the right: 2^3^2 is 2^9; a sign belongs to the exponent.
    return this.take("^") ? base ** this.signed() : base;
  }

  private part(): number {
    let value: number;
    if (this.take("(")) {
      value = this.sum();
      if (!this.take(")")) throw new Unreadable();
    } else {
      const token = this.tokens[this.at];
      if (typeof token !== "number") throw new Unreadable();
      this.at += 1;
      value = token;
    }
    while (this.take("%")) value /= 100;
    return value;
  }
}

/**
 * The number that a text stands for: `1/3`, `0.5+0.1`, `50%`, `2^0.5`. What begins with `+`, `*`, `/` or `^` acts on the
 * present value, and `--` takes away from it; a single `-` is a sign.
 */
export function calculated(text: string, present: number): Calculated {
  const plain = text.trim().replaceAll(",", ".");
  const tokens = tokensOf(plain);
  if (!tokens?.length) return { fault: "can't be read as a number" };
  const takesAway = tokens[0] === "-" && tokens[1] === "-";
  const acts = takesAway || (typeof tokens[0] === "string" && "+*/^%".includes(tokens[0]));
  try {
    const value = new Parser(acts ? [present, ...tokens.slice(takesAway ? 1 : 0)] : tokens).whole();
    return Number.isFinite(value) ? { value } : { fault: "is not finite" };
  } catch (error) {
    if (error instanceof RangeError) return { fault: error.message };
    if (error instanceof Unreadable) return { fault: "can't be read as a number" };
    throw error;
  }
}

/** Whether a text is more than a number as it is: then its result is worth showing. */
export const isCalculation = (text: string) => !/^\s*-?[\d.,]*(e[+-]?\d+)?\s*$/i.test(text);
