import type { OperationRow } from "@/api/client";
import { settingsOf } from "@/steps/OneSetting";
import { type SettingSchema, wordsOf } from "@/steps/schema";

/** Pictures that a text is told with, and what they show. */
const PICTURES: Record<string, [file: string, shows: string][]> = {
  screen_solve: [
    [
      "rays",
      "Every pixel by how it departs from the green screen, which is the dot in the corner: across by green and " +
        "blue, upward by red. Feelers and the wings' edges lie along rays from the screen to a colour of the moth; " +
        "what is ringed lies at a ray's end, together with its like, and is solid.",
    ],
    [
      "palette",
      "The shot; where it is solid (white) or a strand (grey); and what colour each such place shows. Below, the " +
        "palette that comes of them: for all other pixels, alpha is what makes one of these colours over the screen, " +
        "within the noise, the likeliest.",
    ],
  ],
};

/** A text as paragraphs, and as lines of formula where it is set in. */
export function partsOf(text: string): { formula: boolean; text: string }[] {
  const parts: { formula: boolean; text: string }[] = [];
  for (const line of text.split("\n")) {
    const formula = /^ {4}/.test(line);
    const last = parts[parts.length - 1];
    if (!line.trim()) parts.push({ formula: false, text: "" });
    else if (last && last.formula === formula && (formula || last.text))
      last.text += (formula ? "\n" : " ") + line.trim();
    else parts.push({ formula, text: line.trim() });
  }
  return parts.filter((part) => part.text);
}

/** A setting's range and what it starts with, in words; empty where it has none. */
export function rangeOf(schema: SettingSchema): string {
  const least = schema.minimum ?? schema.exclusiveMinimum;
  const most = schema.maximum ?? schema.exclusiveMaximum;
  const range =
    least !== undefined && most !== undefined
      ? `${least} to ${most}`
      : least !== undefined
        ? `${least} and more`
        : most !== undefined
          ? `${most} and less`
          : (schema.enum?.join(", ") ?? "");
  const initial = schema.default;
  const told =
    typeof initial === "number" || typeof initial === "string"
      ? String(initial)
      : Array.isArray(initial) && initial.length
        ? initial.join(", ")
        : "";
  const unit = schema.unit ? ` ${schema.unit}` : "";
  return [range && range + unit, told && `at first ${told}`].filter(Boolean).join("; ");
}

/** An operation in full: its text with formula and figures, its ports and its settings. */
export function AboutOperation({ operation, setting }: { operation: OperationRow; setting?: string | null }) {
  const [first, ...more] = partsOf(operation.text);
  return (
    <div className="space-y-3 text-[13px] leading-relaxed">
      <p>{first?.text}</p>
      {PICTURES[operation.op]?.map(([file, shows]) => (
        <figure key={file} className="space-y-1.5">
          <img
            src={`${import.meta.env.BASE_URL}help/${file}.png`}
            alt=""
            className="w-full rounded-sm border border-line"
          />
          <figcaption className="text-[12px] leading-snug text-dim">{shows}</figcaption>
        </figure>
      ))}
      {more.map((part) =>
        part.formula ? (
          <pre
            key={part.text}
            tabIndex={0}
            className="overflow-x-auto rounded-sm border border-line bg-well px-2 py-1.5 font-mono text-[12px]"
          >
            {part.text}
          </pre>
        ) : (
          <p key={part.text}>{part.text.replaceAll("`", "")}</p>
        ),
      )}
      <dl className="grid grid-cols-[110px_1fr] gap-x-3 gap-y-1 border-t border-line pt-3 text-[12px]">
        {operation.ports.map((port) => (
          <div key={port.name} className="contents">
            <dt className="text-dim">{wordsOf(port.name)}</dt>
            <dd>
              {port.text}
              {!port.required && <span className="text-faint"> (may be left out)</span>}
            </dd>
          </div>
        ))}
      </dl>
      {settingsOf(operation).length > 0 && (
        <dl
          aria-label="Settings"
          className="grid grid-cols-[110px_1fr] gap-x-3 gap-y-1 border-t border-line pt-3 text-[12px]"
        >
          {settingsOf(operation).map(([name, schema]) => (
            <div
              key={name}
              ref={(element) => {
                if (name === setting) element?.firstElementChild?.scrollIntoView({ block: "center" });
              }}
              className="contents"
            >
              <dt className={name === setting ? "text-lichen" : "text-dim"}>{wordsOf(name)}</dt>
              <dd>
                {schema.description}
                {rangeOf(schema) && <span className="block text-[11px] text-faint">{rangeOf(schema)}</span>}
              </dd>
            </div>
          ))}
        </dl>
      )}
    </div>
  );
}
