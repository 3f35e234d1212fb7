import { useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";

import { type OperationRow, api, got } from "@/api/client";
import { type Recipe, stepsOf } from "@/api/recipe";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";
import { Modal } from "@/parts/Modal";
import { TextField } from "@/parts/TextField";
import { useAttempt } from "@/parts/useAttempt";
import { settingsOf } from "@/steps/OneSetting";
import { wordsOf } from "@/steps/schema";

import { chainsKey } from "./chains";
import { copied, stepsIn } from "./copying";

interface Props {
  project: number;
  recipe: Recipe;
  /** The steps that are kept; the last of them is what the chain makes. */
  names: string[];
  operations: OperationRow[];
  onClose: () => void;
}

const MOST_FIRST = 12;

/** A step, and those it needs, kept under a name in the project: which of them, and which settings come first. */
export function KeepChain({ project, recipe, names, operations, onClose }: Props) {
  const [steps] = useState(() => stepsIn(copied(recipe, names, true) ?? "") ?? []);
  const [kept, setKept] = useState(() => new Set(steps.map((step) => step.name)));
  const [first, setFirst] = useState<[string, string][]>([]);
  const [called, setCalled] = useState("");
  const [about, setAbout] = useState("");
  const client = useQueryClient();
  const { problem, attempt } = useAttempt(() => client.invalidateQueries({ queryKey: chainsKey(project) }));
  const chosen = steps.filter((step) => kept.has(step.name));
  const asked = (step: string, setting: string) =>
    first.some((pair) => pair[0] === step && pair[1] === setting);
  const submit = async (event: FormEvent) => {
    event.preventDefault();
    const body = {
      name: called,
      about,
      steps: chosen as unknown as Record<string, unknown>[],
      // In the order of the steps, whichever was chosen first.
      first: stepsOf({ nexal: 1, steps }).flatMap((step) =>
        first.filter(([other]) => other === step.name && kept.has(other)),
      ),
    };
    const done = await attempt(() =>
      got(api.POST("/api/projects/{project_id}/chains", { params: { path: { project_id: project } }, body })),
    );
    if (done) onClose();
  };
  return (
    <Modal
      title={`Keep ${names.join(", ")} as a chain`}
      about="Under its name it is found by / in every shot of this project. What its steps are fed from, and it does not hold, is asked for there."
      open
      onClose={onClose}
      width={520}
    >
      <form onSubmit={(event) => void submit(event)} className="space-y-3 text-[12px]">
        <TextField
          label="Name"
          value={called}
          maxLength={120}
          placeholder="What it makes"
          onChange={(event) => setCalled(event.target.value)}
        />
        <TextField
          label="What it is for, in a sentence"
          value={about}
          maxLength={300}
          onChange={(event) => setAbout(event.target.value)}
        />
        <fieldset>
          <legend className="pb-1 text-dim">Its steps, and the settings to be seen first</legend>
          <ul className="max-h-56 space-y-1.5 overflow-y-auto">
            {steps.map((step) => (
              <li key={step.name} className="grid grid-cols-[170px_1fr] items-start gap-2">
                <label className="flex min-w-0 items-center gap-2 pt-1">
                  <input
                    type="checkbox"
                    checked={kept.has(step.name)}
                    disabled={names.includes(step.name)}
                    onChange={(event) => {
                      const next = new Set(kept);
                      if (event.target.checked) next.add(step.name);
                      else next.delete(step.name);
                      setKept(next);
                    }}
                    className="accent-lichen"
                  />
                  <span className="truncate" title={`${step.name}, ${wordsOf(step.op)}`}>
                    {step.name} <span className="text-faint">{wordsOf(step.op)}</span>
                  </span>
                </label>
                <span className="flex flex-wrap gap-1">
                  {kept.has(step.name) &&
                    settingsOf(operations.find((row) => row.op === step.op))
                      .filter(([, schema]) => ["number", "integer"].includes(schema.type ?? ""))
                      .map(([setting]) => (
                        <Button
                          key={setting}
                          lit={asked(step.name, setting)}
                          disabled={!asked(step.name, setting) && first.length >= MOST_FIRST}
                          aria-label={`${wordsOf(setting)} of ${step.name}`}
                          onClick={() =>
                            setFirst(
                              asked(step.name, setting)
                                ? first.filter((pair) => pair[0] !== step.name || pair[1] !== setting)
                                : [...first, [step.name, setting]],
                            )
                          }
                        >
                          {wordsOf(setting).toLowerCase()}
                        </Button>
                      ))}
                </span>
              </li>
            ))}
          </ul>
        </fieldset>
        {problem && <Message problem={problem} />}
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button main type="submit" disabled={!called.trim() || !chosen.length}>
            Keep
          </Button>
        </div>
      </form>
    </Modal>
  );
}
