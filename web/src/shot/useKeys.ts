import { useEffect, useRef } from "react";

import type { Item } from "@/api/client";
import type { Recipe } from "@/api/recipe";
import { useDoubts } from "@/benches/mattes/doubtState";
import { useNoting } from "@/notes/notes";
import { matteOver } from "@/stage/focus";
import { pinned } from "@/stage/Stage";
import { resize, useTools } from "@/stage/tools";
import { isTyping } from "@/parts/typing";
import { BACKDROPS, MATTE_VIEWS, type Panes, useView } from "@/stage/viewState";

import type { timeKeys } from "@/time/useShotTime";

import { useDraft } from "./draft";
import { visit, visitNext } from "./regions";

interface Context {
  recipe: Recipe;
  items: Item[];
  item: string | null;
  writable: boolean;
  find: () => void;
  help: () => void;
  turnRound: () => void;
  toggle: () => void;
  /** The channel that is shown alone, or the first, as a step of its own. */
  copy: () => void;
  /** What the keys do in time. */
  time: ReturnType<typeof timeKeys>;
  /** Go to the nth bench; whether there is one. */
  bench: (index: number) => boolean;
  /** Bring a pinned view onto the stage. */
  show: (address: string) => void;
}

function next<T>(list: readonly T[], now: T): T {
  return list[(list.indexOf(now) + 1) % list.length]!;
}

/** The keys of a shot, wherever nothing is being typed. */
export function useKeys(context: Context): void {
  const latest = useRef(context);
  latest.current = context;
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      const target = event.target as HTMLElement;
      const typing = isTyping(target);
      const { recipe, items, item, writable, find, help, turnRound, toggle, copy, show, time } =
        latest.current;
      const view = useView.getState();
      const key = event.key.toLowerCase();
      if ((event.ctrlKey || event.metaKey) && key === "z" && !target.closest("textarea")) {
        event.preventDefault();
        if (!writable) return;
        if (event.shiftKey) useDraft.getState().redo();
        else useDraft.getState().undo();
        return;
      }
      if (event.key === "Escape" && view.pick) view.change({ pick: null });
      else if (event.key === "Escape" && !typing) useTools.getState().change({ tool: "none" });
      if (event.key === "F6" && !target.closest("[role=dialog]")) {
        event.preventDefault();
        visitNext(event.shiftKey ? -1 : 1);
        return;
      }
      if (typing || event.ctrlKey || event.metaKey || event.altKey) return;
      const digit = /^Digit([1-9])$/.exec(event.code)?.[1];
      if (digit && event.shiftKey && latest.current.bench(Number(digit) - 1)) {
        event.preventDefault();
        return;
      }
      // What is held with an arrow key or on a slider is that control's own.
      if (target.closest("[role=slider]") && event.key.startsWith("Arrow")) return;
      const known = items.find((entry) => entry.name === item);
      const alone = view.alone?.item === item ? view.alone.channels : null;
      const compare = (how: Panes) => {
        if (!view.pin) return;
        if (view.panes === "four" && (how === "split" || how === "blink")) view.change({ within: how });
        else view.change({ panes: view.panes === how ? "one" : how });
      };
      const actions: Record<string, () => void> = {
        "0": () => view.change({ alone: null }),
        z: () => view.change(view.zoom === 0 ? { zoom: 1, centre: null } : { zoom: 0, centre: null }),
        v: () => view.change({ backdrop: next<string>(BACKDROPS, view.backdrop) as typeof view.backdrop }),
        m: () => matteOver(recipe, items, known) && view.change({ matte: next(MATTE_VIEWS, view.matte) }),
        p: () => item && view.change(pinned(view.pin !== null, recipe, item, alone)),
        h: () => compare("split"),
        j: () => compare("blink"),
        d: () => compare("difference"),
        "-": () => resize(-1),
        "=": () => resize(1),
        "+": () => resize(1),
        x: () => {
          const pin = view.pin;
          if (!pin || !item) return;
          view.change({
            pin: { recipe, address: item, channels: alone },
            alone: pin.channels ? { item: pin.address, channels: pin.channels } : null,
          });
          show(pin.address);
        },
        "/": find,
        "?": help,
        n: () => writable && turnRound(),
        o: () => writable && toggle(),
        c: () => writable && copy(),
        b: () => useNoting.setState((state) => ({ open: !state.open })),
        ",": time.back,
        ".": time.on,
        g: time.play,
        k: () => time.key(target),
        i: () => view.change({ probing: !view.probing }),
        u: () => useDoubts.getState().next(event.shiftKey ? -1 : 1),
        w: () => visit("channels"),
        s: () => visit("stage"),
        l: () => visit("lineage"),
        e: () => visit("settings"),
      };
      const action = actions[key];
      if (action) {
        event.preventDefault();
        action();
      } else if (/^[1-9]$/.test(event.key) && item && known) {
        const channel = known.channels[Number(event.key) - 1];
        if (channel) view.change({ alone: { item, channels: [channel] } });
      }
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, []);
}
