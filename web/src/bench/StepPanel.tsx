import type { Item, OperationRow } from "@/api/client";
import { type Recipe, changeStep, findStep, setPort, setSetting, sourcesOf, usersOf } from "@/api/recipe";
import { ModeStepper } from "@/benches/mattes/ModeStepper";
import { SlopePlot } from "@/benches/mattes/SlopePlot";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";
import { useDraft } from "@/shot/draft";

import { AddressField } from "./AddressField";
import { SettingField } from "./SettingField";
import { SourcePanel } from "./SourcePanel";
import { type SettingSchema, wordsOf } from "./schema";

interface Props {
  shot: number;
  recipe: Recipe;
  items: Item[];
  item: string | null;
  operations: OperationRow[];
  writable: boolean;
  onTurnRound: () => void;
}

/** The bench panel: what the chosen step needs, drawn from its operation's schema. */
export function StepPanel({ shot, recipe, items, item, operations, writable, onTurnRound }: Props) {
  const edit = useDraft((state) => state.edit);
  const step = item ? findStep(recipe, item) : undefined;
  const operation = operations.find((row) => row.op === step?.op);
  const known = items.find((entry) => entry.name === item);

  if (item && sourcesOf(recipe)[item])
    return <SourcePanel shot={shot} name={item} recipe={recipe} item={known} writable={writable} />;
  if (!item || !step)
    return (
      <aside
        aria-label="Bench"
        className="w-80 shrink-0 border-l border-line bg-panel p-3 text-[12px] text-dim"
      >
        Choose a source or a step below to see its settings. Add a step with{" "}
        <kbd className="font-mono text-text">/</kbd>, or drop one channel tile on another to cross them.
      </aside>
    );

  const above = items.slice(
    0,
    items.findIndex((entry) => entry.name === item),
  );
  const first = Object.values(step.in ?? {})[0];
  const firstItem = items.find((entry) => entry.name === first?.split(".")[0]);
  const channels = first?.includes(".") ? ["Y"] : (firstItem?.channels ?? []);
  const schemas = Object.entries((operation?.settings ?? {}) as Record<string, SettingSchema>);
  const set = (setting: string) => (value: unknown, done: boolean) =>
    edit((before) => setSetting(before, step.name, setting, value), done);
  const users = usersOf(recipe, step.name);
  const modes = schemas.find(([name]) => name === "mode")?.[1];

  return (
    <aside
      aria-label="Bench"
      className="flex w-80 shrink-0 flex-col overflow-y-auto border-l border-line bg-panel text-[12px]"
    >
      <header className="flex items-baseline justify-between gap-2 px-3 pb-2 pt-3">
        <h2 className="truncate text-[13px] font-semibold">
          {wordsOf(step.op)} <span className="font-normal text-dim">→ {step.name}</span>
        </h2>
        {users.length > 0 && (
          <span className="truncate text-[11px] text-faint">used by {users.join(", ")}</span>
        )}
      </header>
      <fieldset disabled={!writable} className="min-w-0 space-y-3 px-3 pb-4">
        {known?.problem && <Message problem={known.problem} />}
        {step.op === "stretch" && (
          <SlopePlot
            shot={shot}
            recipe={recipe}
            step={step}
            items={items}
            onSet={(values, done) =>
              edit(
                (before) =>
                  changeStep(before, step.name, (old) => ({ ...old, set: { ...old.set, ...values } })),
                done,
              )
            }
          />
        )}
        {modes?.enum && (
          <ModeStepper
            modes={modes.enum}
            mode={String(step.set?.mode ?? modes.default)}
            onChange={(mode) => edit((before) => setSetting(before, step.name, "mode", mode))}
          />
        )}
        <div className="space-y-1.5">
          {operation?.ports.map((port) => (
            <AddressField
              key={port.name}
              label={wordsOf(port.name)}
              value={step.in?.[port.name]}
              kind={port.kind as "plane" | "picture" | "any"}
              items={above}
              optional={!port.required}
              disabled={!writable}
              onChange={(address) => edit((before) => setPort(before, step.name, port.name, address))}
            />
          ))}
        </div>
        <div className="space-y-2 border-t border-line pt-3">
          {schemas
            .filter(([name]) => name !== "mode")
            .map(([name, schema]) => (
              <SettingField
                key={name}
                name={name}
                schema={schema}
                value={step.set?.[name]}
                channels={channels}
                items={above}
                onChange={set(name)}
              />
            ))}
        </div>
        {step.note && <p className="border-l-2 border-line pl-2 text-dim">{step.note}</p>}
        {operation && (
          <p className="border-t border-line pt-3 text-[12px] leading-snug text-dim">
            {operation.text.split("\n")[0]}
          </p>
        )}
        {writable && (
          <div className="flex gap-2">
            <Button onClick={onTurnRound} title="Key N">
              Turn round
            </Button>
            <Button
              onClick={() =>
                edit((before) =>
                  changeStep(before, step.name, ({ on, ...old }) =>
                    on === false ? old : { ...old, on: false },
                  ),
                )
              }
              title="Key O"
            >
              {step.on === false ? "Turn on" : "Turn off"}
            </Button>
          </div>
        )}
      </fieldset>
    </aside>
  );
}
