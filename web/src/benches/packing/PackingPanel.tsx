import { useState } from "react";

import { findStep, itemOf, sourcesOf } from "@/api/recipe";
import { useGo } from "@/app/address";
import { Checks } from "@/steps/Checks";
import type { BenchProps } from "@/steps/props";
import { StepPanel } from "@/steps/StepPanel";
import { Button } from "@/parts/Button";
import { Choose } from "@/parts/Choose";
import { useDraft } from "@/shot/draft";

import { BayCard } from "./BayCard";
import { relaid } from "./building";
import { FinishRow } from "./FinishRow";
import { LossTable } from "./LossTable";
import { OwnSets } from "./OwnSets";
import { baysOf, packOf, packsOf } from "./packs";
import { usePackingView } from "./packingView";
import { ProofTable } from "./ProofTable";
import { StartPack } from "./StartPack";
import { usePacking } from "./usePacking";

interface Props extends BenchProps {
  project: number;
  onChoose: (item: string) => void;
}

/** The Packing bench: layout, one bay for each channel, finishes, warnings and proof; other items' settings below. */
export function PackingPanel(props: Props) {
  const { shot, project, recipe, items, item, operations, writable, onPut, onChoose } = props;
  const view = usePackingView();
  const edit = useDraft((state) => state.edit);
  const [owning, setOwning] = useState(false);
  const go = useGo();
  const packing = usePacking(project).data;
  const layouts = packing?.layouts ?? [];
  const finishes = packing?.finishes ?? [];
  const step = packOf(recipe, item, view.pack);
  const pack = items.find((entry) => entry.name === step?.name);
  const packs = packsOf(recipe);
  const bays = step ? baysOf(recipe, step) : [];
  const inBays =
    step !== undefined && [step.name, ...bays.map((bay) => itemOf(bay.address))].includes(item ?? "");
  const focus = items.find((entry) => entry.name === item);
  const layout = String(step?.set?.layout ?? "");
  const own = !layouts.some((each) => each.name === layout);
  const kind = view.seen === "mip" || view.seen === "blocks" ? view.seen : null;
  // The settings of what is neither bay nor texture, such as a source that a bar is fed from.
  const other = item && !inBays && (sourcesOf(recipe)[item] || findStep(recipe, item));
  const labels = bays.flatMap((bay) =>
    bay.step ? [{ name: bay.step.name, label: bay.meaning.replaceAll("_", " ") || bay.step.name }] : [],
  );
  const deliver = () => go({ bench: "deliver", new: "texture", ...(step ? { item: step.name } : {}) });
  return (
    <aside
      aria-label="Bench"
      className="flex w-80 shrink-0 flex-col overflow-y-auto border-l border-line bg-panel"
    >
      {!step ? (
        writable ? (
          <StartPack items={items} item={item} layouts={layouts} onPut={onPut} />
        ) : (
          <p className="p-3 text-[12px] text-dim">No texture is packed in this shot.</p>
        )
      ) : (
        <div className="space-y-2 p-3">
          <header className="flex items-center gap-2 text-[12px]">
            {packs.length > 1 ? (
              <Choose
                label="Texture"
                value={step.name}
                options={packs.map((each) => each.name)}
                onChange={(name) => {
                  view.change({ pack: name });
                  onChoose(name);
                }}
                className="min-w-0 max-w-26 font-semibold"
              />
            ) : (
              <h2 className="truncate text-[13px] font-semibold">{step.name}</h2>
            )}
            <Choose
              label="Layout"
              value={own ? "" : layout}
              options={[
                ...(own ? [{ value: "", label: layout || "no layout" }] : []),
                ...layouts.map((each) => ({ value: each.name, label: each.title })),
              ]}
              disabled={!writable}
              onChange={(name) => {
                const chosen = layouts.find((each) => each.name === name);
                if (chosen) edit((before) => relaid(before, step.name, chosen));
              }}
              className="min-w-0 grow"
            />
          </header>
          {bays.map((bay) => (
            <BayCard
              key={bay.port}
              shot={shot}
              items={items}
              bay={bay}
              lit={itemOf(bay.address) === item}
              operations={operations}
              others={labels.filter((each) => each.name !== bay.step?.name)}
              writable={writable}
              onChoose={(name) => {
                view.change({ pack: step.name });
                onChoose(name);
              }}
            />
          ))}
          <FinishRow
            recipe={recipe}
            items={items}
            pack={step}
            finishes={finishes}
            writable={writable}
            onOwn={() => setOwning(true)}
          />
          <div className="space-y-2 border-t border-line pt-2 text-[12px]">
            {focus && inBays && focus.name !== step.name && (
              <Checks
                shot={shot}
                recipe={recipe}
                item={focus}
                writable={writable}
                mattes={false}
                onPut={onPut}
              />
            )}
            {pack && !pack.problem && (
              <Checks
                shot={shot}
                recipe={recipe}
                item={pack}
                writable={writable}
                mattes={false}
                besides={focus && inBays && focus.name !== step.name ? focus : undefined}
                onPut={onPut}
              />
            )}
            {pack && !pack.problem && kind && (
              <LossTable shot={shot} pack={pack} kind={kind} level={view.level} />
            )}
            {pack && !pack.problem && (
              <ProofTable
                shot={shot}
                pack={pack}
                meanings={Object.fromEntries(
                  bays.map((bay) => [bay.channel, bay.meaning.replaceAll("_", " ")]),
                )}
              />
            )}
            {writable && pack && !pack.problem && (
              <Button main onClick={deliver}>
                Deliver this texture
              </Button>
            )}
          </div>
        </div>
      )}
      {step && item === step.name && (
        <details className="border-t border-line text-[12px]">
          <summary className="cursor-pointer px-3 py-2 text-dim hover:text-text">
            Size, resampling and feeds of {step.name}
          </summary>
          <StepPanel {...props} mattes={false} plain />
        </details>
      )}
      {other && (
        <div className="border-t border-line">
          <StepPanel {...props} mattes={false} />
        </div>
      )}
      {owning && packing && (
        <OwnSets project={project} packing={packing} writable={writable} onClose={() => setOwning(false)} />
      )}
    </aside>
  );
}
