import { keepPreviousData, useQuery } from "@tanstack/react-query";

import { type Item, api, got } from "@/api/client";
import { type Recipe, type Step, itemOf, drafted } from "@/api/recipe";
import { AddressField } from "@/steps/AddressField";
import { Button } from "@/parts/Button";
import { useSettled } from "@/parts/useSettled";
import { useDraft } from "@/shot/draft";
import { OwnNotch } from "@/time/Notch";

import {
  type Balance,
  PLAIN,
  balanced,
  balancesOf,
  groupsOf,
  passesOf,
  shortName,
  withPass,
  without,
} from "./balance";
import { PassPicture } from "./PassPicture";
import { Strip } from "./Strip";
import { SumStrip } from "./SumStrip";
import { TintDial } from "./TintDial";

interface Props {
  shot: number;
  recipe: Recipe;
  items: Item[];
  step: Step;
  writable: boolean;
  onPut: (change: (before: Recipe) => [Recipe, string]) => void;
}

/** The desk: one strip for each pass of the sum in focus, strips for groups of passes, and the sum. */
export function Desk({ shot, recipe, items, step, writable, onPut }: Props) {
  const edit = useDraft((state) => state.edit);
  const passes = passesOf(step);
  const balances = balancesOf(step);
  const above = items.slice(
    0,
    items.findIndex((item) => item.name === step.name),
  );
  const itemFor = (name: string) => items.find((item) => item.name === name);
  const settled = useSettled(itemFor(step.name), 120);
  const shares = useQuery({
    queryKey: ["shares", shot, step.name, settled?.digest],
    queryFn: () =>
      got(
        api.POST("/api/shots/{shot_id}/shares", {
          params: { path: { shot_id: shot } },
          body: { ...drafted(settled!.of), item: settled!.name },
        }),
      ),
    enabled: Boolean(settled?.digest) && settled?.name === step.name,
    placeholderData: keepPreviousData,
    staleTime: Infinity,
    gcTime: 20_000,
    retry: false,
  }).data;
  const soloed = balances.some((each) => each.solo);
  const put = (changes: Map<number, Partial<Balance>>, done: boolean) =>
    edit((before) => balanced(before, step.name, changes), done);
  const one = (index: number, change: Partial<Balance>, done = true) => put(new Map([[index, change]]), done);
  const groups = groupsOf(passes);

  return (
    <section
      aria-label="Desk"
      className="flex h-[236px] shrink-0 border-t border-line bg-panel text-[12px]"
      // A key of the fader in focus is the only one that means the same here as elsewhere.
      onKeyDown={(event) => event.key.toLowerCase() !== "k" && event.stopPropagation()}
    >
      <fieldset disabled={!writable} className="flex min-w-0 grow overflow-x-auto overflow-y-hidden">
        {passes.map((address, index) => {
          const balance = balances[index]!;
          return (
            <Strip
              key={`${address} ${index}`}
              name={shortName(address)}
              title={balance.times ? `${address} × ${balance.times}` : address}
              stops={balance.stops ?? 0}
              share={shares?.[index]?.share}
              quiet={soloed ? !balance.solo : Boolean(balance.mute)}
              picture={<PassPicture shot={shot} item={itemFor(itemOf(address))} address={address} />}
              notch={
                <OwnNotch
                  step={step.name}
                  place={["passes", index, "stops"]}
                  label={`Stops of ${shortName(address)}`}
                  initial={0}
                  writable={writable}
                  className="absolute -left-1.5 top-0"
                />
              }
              onStops={(stops, done) => one(index, { stops }, done)}
              onRemove={
                writable && passes.length > 1
                  ? () => edit((before) => without(before, step.name, index))
                  : undefined
              }
            >
              <div className="flex items-center justify-between gap-0.5">
                <Button
                  quiet={!balance.mute}
                  lit={Boolean(balance.mute)}
                  className="h-5! px-0.5! text-[11px]"
                  onClick={() => one(index, { mute: !balance.mute })}
                >
                  mute
                </Button>
                <Button
                  quiet={!balance.solo}
                  lit={Boolean(balance.solo)}
                  className="h-5! px-0.5! text-[11px]"
                  onClick={() => one(index, { solo: !balance.solo })}
                >
                  solo
                </Button>
              </div>
              <div className="flex justify-center">
                <TintDial
                  label={shortName(address)}
                  value={balance.tint ?? PLAIN}
                  onChange={(tint, done) => one(index, { tint }, done)}
                />
              </div>
            </Strip>
          );
        })}
        {[...groups].map(([group, members]) => {
          const mean =
            members.reduce((sum, index) => sum + (balances[index]!.stops ?? 0), 0) / members.length;
          return (
            <Strip
              key={`group ${group}`}
              name={`all ${group.split(".").pop()}`}
              title={`Every pass of ${group} together`}
              stops={Math.round(mean * 1000) / 1000}
              share={members.reduce((sum, index) => sum + (shares?.[index]?.share ?? 0), 0)}
              quiet={false}
              picture={
                <div className="flex h-9 items-center justify-center border border-dashed border-line text-[11px] text-faint">
                  {members.length} passes
                </div>
              }
              onStops={(stops, done) =>
                put(
                  new Map(
                    members.map((index) => [
                      index,
                      { stops: Math.round(((balances[index]!.stops ?? 0) + stops - mean) * 1000) / 1000 },
                    ]),
                  ),
                  done,
                )
              }
            />
          );
        })}
        <div className="w-[102px] shrink-0 p-1.5 pt-2">
          <AddressField
            stacked
            label="Add a pass"
            empty="choose"
            kind="picture"
            value={undefined}
            items={above}
            disabled={!writable}
            onChange={(address) => address && edit((before) => withPass(before, step.name, address))}
          />
        </div>
      </fieldset>
      <SumStrip
        shot={shot}
        recipe={recipe}
        step={step}
        above={above}
        item={itemFor(step.name)}
        writable={writable}
        onReset={() =>
          put(
            new Map(balances.map((_, index) => [index, { stops: 0, tint: PLAIN, mute: false, solo: false }])),
            true,
          )
        }
        onPut={onPut}
      />
    </section>
  );
}
