import {
  bypassing,
  changeStep,
  findStep,
  firstInput,
  putBetween,
  setPort,
  setSetting,
  sourcesOf,
  usersOf,
} from "@/api/recipe";
import { ModeBoard } from "@/benches/mattes/ModeBoard";
import { ModeStepper } from "@/benches/mattes/ModeStepper";
import { PathList } from "@/benches/mattes/PathList";
import { SlopePlot } from "@/benches/mattes/SlopePlot";
import { DoubtNote } from "@/benches/mattes/DoubtNote";
import { OtherFrames } from "@/benches/mattes/OtherFrames";
import { ProofNote, provable } from "@/benches/mattes/ProofNote";
import { StrokeList } from "@/benches/mattes/StrokeList";
import { isTold } from "@/benches/mattes/strokes";
import { BarList } from "@/benches/packing/BarList";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";
import { useDraft } from "@/shot/draft";
import { pictureOf } from "@/stage/focus";

import { Courses } from "@/time/Courses";
import { Steadiness } from "@/time/Steadiness";

import { AboutStep } from "./AboutStep";
import { Checks } from "./Checks";
import { ComesFirst } from "./ComesFirst";
import { OneSetting, settingsOf } from "./OneSetting";
import { Ports } from "./Ports";
import { SourcePanel } from "./SourcePanel";
import { wordsOf } from "./schema";
import type { BenchProps } from "./props";

interface Props extends BenchProps {
  /** Whether a picture's alpha is judged as a matte. */
  mattes?: boolean;
  /** Only what it is fed from and its settings, where the bench shows all else itself. */
  plain?: boolean;
}

/** Settings with a control of their own, drawn elsewhere. */
const DRAWN_APART = ["strokes", "paths", "passes", "bars"];

/** The bench panel: what the chosen step needs, drawn from its operation's schema. */
export function StepPanel(props: Props) {
  const { shot, recipe, items, item, operations, writable, mattes = true, plain, onTurnRound, onPut } = props;
  const edit = useDraft((state) => state.edit);
  const raw = useDraft((state) => (item ? findStep(state.recipe, item) : undefined));
  const step = item ? findStep(recipe, item) : undefined;
  const operation = operations.find((row) => row.op === step?.op);
  const known = items.find((entry) => entry.name === item);

  if (item && sourcesOf(recipe)[item])
    return <SourcePanel shot={shot} name={item} recipe={recipe} item={known} writable={writable} />;
  if (!item || !step)
    return (
      <section className="p-3 text-[12px] text-dim">
        Choose a source or a step below to see its settings. Add a step with{" "}
        <kbd className="font-mono text-text">/</kbd>, or drop one channel tile on another to cross them.
      </section>
    );

  const above = items.slice(
    0,
    items.findIndex((entry) => entry.name === item),
  );
  const first = firstInput(step);
  const firstItem = items.find((entry) => entry.name === first?.split(".")[0]);
  const schemas = settingsOf(operation);
  const users = usersOf(recipe, step.name);
  // Only what is of the same kind can take its input's place.
  const sameKind = known?.plane === (first?.includes(".") || firstItem?.plane);
  const between = sameKind ? bypassing(recipe, step.name) : null;
  const atDefault = (name: string) => {
    const initial = schemas.find(([other]) => other === name)?.[1].default;
    return JSON.stringify(step.set?.[name] ?? initial) === JSON.stringify(initial);
  };
  const modes = schemas.find(([name]) => name === "mode")?.[1];
  // Mode, strokes and curves have controls of their own.
  const drawn = schemas.filter(
    ([name, schema]) =>
      name !== "mode" &&
      !DRAWN_APART.includes(schema.widget ?? "") &&
      // A bay's base stands among its bars.
      !(step.op === "bay" && name === "base") &&
      (!schema.beside || !atDefault(schema.beside)),
  );

  return (
    <section aria-label="Step" className="flex min-h-0 grow flex-col text-[12px]">
      <div className="min-h-0 grow overflow-y-auto">
        <header className="flex items-baseline justify-between gap-2 px-3 pb-2 pt-3">
          <h2 className="truncate text-[13px] font-semibold">
            {wordsOf(step.op)} <span className="font-normal text-dim">→ {step.name}</span>
          </h2>
          {users.length > 0 && (
            <span className="truncate text-[11px] text-faint">used by {users.join(", ")}</span>
          )}
        </header>
        <fieldset disabled={!writable} className="min-w-0 space-y-3 px-3 pb-4">
          {!plain && <ComesFirst {...{ shot, recipe, items, operations, writable }} item={step.name} />}
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
          {step.op === "cross" && modes?.enum && (
            <ModeBoard
              shot={shot}
              recipe={recipe}
              step={step}
              items={items}
              modes={modes.enum}
              onChange={(mode) => edit((before) => setSetting(before, step.name, "mode", mode))}
            />
          )}
          {step.op === "bay" && (
            <div className="rounded-sm border border-line">
              <BarList
                items={items}
                step={step}
                operations={operations}
                others={[]}
                writable={writable}
                adding
              />
            </div>
          )}
          {known && isTold(step) && <DoubtNote key={`doubt of ${step.name}`} shot={shot} known={known} />}
          {(step.op === "screen_solve" || step.op === "screen_plate") && (
            <OtherFrames recipe={recipe} step={step} writable={writable} onRecipe={edit} />
          )}
          {known && provable(step) && <ProofNote key={`proof of ${step.name}`} shot={shot} known={known} />}
          {(step.op === "touch_up" || isTold(step)) && <StrokeList step={step} onRecipe={edit} />}
          {step.op === "shape" && (
            <PathList
              shot={shot}
              picture={first && !first.includes(".") ? first : pictureOf(recipe, items, step.name)}
              recipe={recipe}
              step={step}
              onRecipe={edit}
            />
          )}
          {known && !known.problem && !plain && mattes && (known.plane || known.channels.includes("A")) && (
            <Steadiness key={`steadiness of ${known.name}`} shot={shot} item={known} />
          )}
          {operation && (
            <Ports
              operation={operation}
              step={step}
              items={above}
              writable={writable}
              onChange={(port, feed) => edit((before) => setPort(before, step.name, port, feed))}
            />
          )}
          {drawn.length > 0 && (
            <div data-settings className="space-y-2 border-t border-line pt-3">
              {drawn.map(([name, schema]) => (
                <OneSetting
                  key={name}
                  {...{ shot, recipe, items, step, operation, name, schema, writable }}
                />
              ))}
            </div>
          )}
          <Courses step={raw} apart={drawn.map(([name]) => name)} writable={writable} />
          {between && writable && (
            <div className="flex items-center justify-between gap-2 border-t border-line pt-3">
              <span className="text-dim">
                {between.users.join(", ")} {between.users.length === 1 ? "is" : "are"} still fed from{" "}
                {between.input}
              </span>
              <Button onClick={() => edit((before) => putBetween(before, step.name))}>
                Feed from {step.name}
              </Button>
            </div>
          )}
          {step.note && <p className="border-l-2 border-line pl-2 text-dim">{step.note}</p>}
          {operation && <AboutStep key={`about ${operation.op}`} operation={operation} />}
          {operation && writable && !plain && (
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
      </div>
      {/* They come late: at the end, they move nothing that is in the hand. */}
      {known && !plain && (
        <Checks
          shot={shot}
          recipe={recipe}
          item={known}
          writable={writable}
          mattes={mattes}
          onPut={onPut}
          className="max-h-[45%] shrink-0 overflow-y-auto border-t border-line px-3 py-2"
        />
      )}
    </section>
  );
}
