import { Plus } from "lucide-react";
import { useState } from "react";

import { type Problem, problemOf } from "@/api/client";
import type { components } from "@/api/schema";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";
import { Modal } from "@/parts/Modal";

import { OwnFinish } from "./OwnFinish";
import { OwnLayout } from "./OwnLayout";
import { type Finish, type Layout, PORTS } from "./packs";
import { useKeepPacking } from "./usePacking";
import { KNOWN, worded } from "./words";

interface Props {
  project: number;
  packing: components["schemas"]["PackingRow"];
  writable: boolean;
  onClose: () => void;
}

/** A name that no other row has, from a title. */
function nameOf(title: string, rows: { name: string }[]): string {
  const base = worded(title) || "own";
  let name = base;
  for (let number = 2; rows.some((row) => row.name === name); number++) name = `${base}_${number}`;
  return name;
}

/** The project's own layouts and finishes; those of the program can be copied, not changed. */
export function OwnSets({ project, packing, writable, onClose }: Props) {
  const [layouts, setLayouts] = useState<Layout[]>(packing.layouts);
  const [finishes, setFinishes] = useState<Finish[]>(packing.finishes);
  const [problem, setProblem] = useState<Problem | null>(null);
  const keep = useKeepPacking(project);
  const save = async () => {
    setProblem(null);
    try {
      await keep(layouts, finishes);
      onClose();
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  return (
    <Modal
      title="Layouts and finishes"
      about="Those of the project are kept for all of its shots. Textures that are packed already keep the meanings they have."
      open
      onClose={onClose}
      width={560}
    >
      <fieldset disabled={!writable} className="space-y-5 text-[12px]">
        <section className="space-y-2">
          <h3 className="font-semibold">Finishes</h3>
          {finishes.map((finish, index) =>
            finish.own ? (
              <OwnFinish
                key={finish.name}
                finish={finish}
                onChange={(next) => setFinishes(finishes.map((each, at) => (at === index ? next : each)))}
                onRemove={() => setFinishes(finishes.filter((_, at) => at !== index))}
              />
            ) : (
              <Given
                key={finish.name}
                title={finish.title}
                text={Object.entries(finish.values)
                  .map(([meaning, value]) => `${meaning} ${Number((value * 100).toFixed(2))} %`)
                  .join(", ")}
                onCopy={() => {
                  const title = `${finish.title}, own`;
                  setFinishes([...finishes, { ...finish, title, name: nameOf(title, finishes), own: true }]);
                }}
              />
            ),
          )}
          <Button
            onClick={() => {
              const title = "new finish";
              const values = { metallic: 0, roughness: 0.5, coat: 0 };
              setFinishes([...finishes, { name: nameOf(title, finishes), title, values, own: true }]);
            }}
          >
            <Plus size={12} /> Finish
          </Button>
        </section>
        <section className="space-y-2">
          <h3 className="font-semibold">Layouts</h3>
          {layouts.map((layout, index) =>
            layout.own ? (
              <OwnLayout
                key={layout.name}
                layout={layout}
                onChange={(next) => setLayouts(layouts.map((each, at) => (at === index ? next : each)))}
                onRemove={() => setLayouts(layouts.filter((_, at) => at !== index))}
              />
            ) : (
              <Given
                key={layout.name}
                title={layout.title}
                text={layout.channels.map((each) => `${each.port.toUpperCase()} ${each.meaning}`).join(", ")}
                onCopy={() => {
                  const title = `${layout.title}, own`;
                  setLayouts([...layouts, { ...layout, title, name: nameOf(title, layouts), own: true }]);
                }}
              />
            ),
          )}
          <Button
            onClick={() => {
              const title = "new layout";
              const channels = PORTS.slice(0, 3).map((port, at) => ({
                port,
                meaning: KNOWN[at]!,
                inverted: false,
                default: at === 0 ? 1 : 0,
              }));
              setLayouts([...layouts, { name: nameOf(title, layouts), title, channels, own: true }]);
            }}
          >
            <Plus size={12} /> Layout
          </Button>
        </section>
        {problem && <Message problem={problem} />}
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          {writable && (
            <Button main onClick={() => void save()}>
              Keep
            </Button>
          )}
        </div>
      </fieldset>
    </Modal>
  );
}

function Given({ title, text, onCopy }: { title: string; text: string; onCopy: () => void }) {
  return (
    <div className="flex items-baseline gap-2">
      <span className="shrink-0">{title}</span>
      <span className="min-w-0 grow truncate text-faint">{text}</span>
      <Button onClick={onCopy}>Copy to change</Button>
    </div>
  );
}
