import { useEffect, useRef, useState } from "react";

import { following } from "./range";
import { type Played, Reel, type ReelAsk } from "./reel";
import { goTo, useTime } from "./timeState";

/**
 * Plays a view in real time, from frames that are held; where the next one is not there it waits for it and says so.
 * What it gives is always the frame that the playhead names; null while it stands. The key stands for what is asked
 * for: as long as it is the same, frames stay from one play to the next.
 */
export function usePlayback(ask: ReelAsk | null, key: string): Played | null {
  const playing = useTime((state) => state.playhead !== null);
  const [shown, setShown] = useState<Played | null>(null);
  const held = useRef<{ key: string; reel: Reel } | null>(null);
  const latest = useRef(ask);
  latest.current = ask;

  useEffect(() => {
    return () => {
      held.current?.reel.close();
      held.current = null;
    };
  }, [key]);

  useEffect(() => {
    if (!playing || !latest.current) {
      setShown(null);
      return;
    }
    if (held.current?.key !== key) {
      held.current?.reel.close();
      held.current = { key, reel: new Reel(latest.current) };
    }
    const { reel } = held.current;
    reel.again();
    let request = 0;
    let due = performance.now();
    let seen: number[] = [];
    let last: number | null = null;
    const began = due;
    /** How many were shown in the last second, where that is fewer than there should be. */
    const reached = (now: number, rate: number) => {
      seen = seen.filter((time) => now - time < 1000);
      return now - began > 1200 && seen.length < rate * 0.93 ? seen.length : null;
    };
    const tick = (now: number) => {
      request = requestAnimationFrame(tick);
      const { playhead, range, loop, rate, change } = useTime.getState();
      if (playhead === null) return;
      const next = last === null ? playhead : following(last, range, loop);
      if (next === null) {
        goTo(playhead);
        return;
      }
      reel.fill(next, range, loop);
      if (now < due - 2) return;
      const ready = reel.at(next);
      if (!ready) {
        if (reel.lost(next) && next !== last) last = next;
        if (now - due > 250) change({ reached: reached(now, rate) });
        return;
      }
      last = next;
      setShown(ready);
      seen.push(now);
      // A picture that comes late moves what follows: none is left out.
      due = (now - due > 1500 / rate ? now : due) + 1000 / rate;
      change({ playhead: next, reached: reached(now, rate) });
    };
    request = requestAnimationFrame(tick);
    return () => {
      cancelAnimationFrame(request);
      setShown(null);
    };
  }, [playing, key]);

  return playing ? shown : null;
}
