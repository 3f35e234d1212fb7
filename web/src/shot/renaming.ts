import { itemOf, rename } from "@/api/recipe";

import { usePackingView } from "@/benches/packing/packingView";
import { useNoting } from "@/notes/notes";
import { useView } from "@/stage/viewState";
import { useTime } from "@/time/timeState";

import { usePut } from "./chains";
import { useDraft } from "./draft";
import { useMarks } from "./marks";

/** An item of the shot gets another name, and all that names it in this page goes along; the server does the same. */
export function renameItem(from: string, to: string): void {
  const item = (name: string) => (name === from ? to : name);
  const address = (old: string) => (itemOf(old) === from ? to + old.slice(from.length) : old);

  useDraft.getState().edit((recipe) => rename(recipe, from, to));

  const { marks, put } = useMarks.getState();
  if (marks.some((mark) => mark.on === from)) put(marks.map((mark) => ({ ...mark, on: item(mark.on) })));

  const view = useView.getState();
  const { alone, fringe, unsure, backdrop } = view;
  view.change({
    // A pin has a recipe of its own, with the names of when it was pinned.
    alone: alone && { ...alone, item: item(alone.item) },
    fringe: fringe && { ...fringe, item: item(fringe.item) },
    unsure: unsure && { ...unsure, item: item(unsure.item) },
    backdrop: backdrop.startsWith("item:") ? `item:${address(backdrop.slice("item:".length))}` : backdrop,
  });

  const noting = useNoting.getState();
  if (noting.place) noting.change({ place: { ...noting.place, item: item(noting.place.item) } });

  const packing = usePackingView.getState();
  packing.change({
    pack: packing.pack && item(packing.pack),
    base: packing.base && address(packing.base),
    normal: packing.normal && address(packing.normal),
  });

  const time = useTime.getState();
  if (time.taken) time.change({ taken: null });

  const { put: chain, change } = usePut.getState();
  if (chain) {
    const first = chain.first.map(([step, setting]): [string, string] => [item(step), setting]);
    change({ ...chain, steps: chain.steps.map(item), first });
  }
}
