import type { Item, OperationRow } from "@/api/client";
import { type Recipe, type Step, findStep, firstInput, itemOf, setSetting } from "@/api/recipe";
import { useDraft } from "@/shot/draft";
import { stepPage, useHelp } from "@/help/helpState";
import { Moving } from "@/time/Moving";

import { SettingField } from "./SettingField";
import { type SettingSchema, wordsOf } from "./schema";

/** The settings of an operation with their schemas, in order. */
export function settingsOf(operation: OperationRow | undefined): [string, SettingSchema][] {
  return Object.entries((operation?.settings ?? {}) as Record<string, SettingSchema>);
}

/** What a step is judged in: the domain that is set, or that its operation starts with. */
export function domainOf(step: Step, operation: OperationRow | undefined): "display" | "scene" {
  const schema = settingsOf(operation).find(([name]) => name === "domain")?.[1];
  return (step.set?.domain ?? schema?.default) === "display" ? "display" : "scene";
}

interface Props {
  shot: number;
  recipe: Recipe;
  items: Item[];
  /** The step as it is at the frame that is looked at. */
  step: Step;
  operation: OperationRow | undefined;
  name: string;
  schema: SettingSchema;
  writable: boolean;
}

/** One setting of a step, with its movement: set here, it is set in the shot. */
export function OneSetting({ shot, recipe, items, step, operation, name, schema, writable }: Props) {
  const edit = useDraft((state) => state.edit);
  const raw = useDraft((state) => findStep(state.recipe, step.name));
  const first = firstInput(step);
  const channels = first?.includes(".")
    ? ["Y"]
    : (items.find((entry) => entry.name === itemOf(first ?? ""))?.channels ?? []);
  const show = useHelp((state) => state.show);
  const help = () => show(stepPage(step.op), name);
  return (
    <div
      className="group/setting relative"
      onKeyDown={(event) => {
        if (event.key !== "F1") return;
        event.preventDefault();
        help();
      }}
    >
      <Moving
        step={raw}
        place={[name]}
        label={wordsOf(name)}
        initial={schema.default}
        fine={schema.step}
        writable={writable}
      >
        <SettingField
          name={name}
          schema={schema}
          value={step.set?.[name]}
          channels={channels}
          items={items.slice(
            0,
            items.findIndex((entry) => entry.name === step.name),
          )}
          picking={{ shot, recipe, items, address: first, encoded: step.set?.encoding === "display" }}
          domain={domainOf(step, operation)}
          onChange={(value, done) => edit((before) => setSetting(before, step.name, name, value), done)}
        />
      </Moving>
      <button
        type="button"
        // By the keys it is F1, so that no setting needs a second stop.
        tabIndex={-1}
        aria-label={`About ${wordsOf(name).toLowerCase()}`}
        title="What it does (F1)"
        onClick={help}
        className="absolute left-[70px] top-px bg-panel px-1 font-mono text-[11px] text-lichen opacity-0 hover:opacity-100 group-hover/setting:opacity-100"
      >
        ?
      </button>
    </div>
  );
}
