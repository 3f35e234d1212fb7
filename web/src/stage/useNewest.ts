import { useEffect, useRef, useState } from "react";

const PAUSE_MS = 30;

/** What was answered for a place of the picture. */
export interface Answered<T> {
  x: number;
  y: number;
  answer: T;
}

/**
 * What is asked of the server about the pixel under the pointer, one question at a time: the newest wish is answered
 * last, and what fails is answered by nothing. Nothing is asked where the pointer is elsewhere; `about` is what the
 * question is about beside the place: it is asked again when that changes.
 */
export function useNewest<T>(
  at: [number, number] | null,
  about: readonly unknown[],
  ask: (x: number, y: number) => Promise<T>,
): Answered<T> | null {
  const [found, setFound] = useState<Answered<T> | null>(null);
  const wish = useRef<{ x: number; y: number } | null>(null);
  const running = useRef(false);
  const [x, y] = at ? [Math.floor(at[0]), Math.floor(at[1])] : [0, 0];
  const latest = useRef(ask);
  latest.current = ask;
  useEffect(() => {
    if (at === null) {
      wish.current = null;
      setFound(null);
      return;
    }
    wish.current = { x, y };
    const timer = setTimeout(() => void follow(), PAUSE_MS);
    async function follow(): Promise<void> {
      if (running.current) return;
      running.current = true;
      while (wish.current) {
        const mine = wish.current;
        try {
          const answer = await latest.current(mine.x, mine.y);
          if (wish.current) setFound({ ...mine, answer });
        } catch {
          setFound(null);
        }
        if (wish.current === mine) wish.current = null;
      }
      running.current = false;
    }
    return () => clearTimeout(timer);
    // What it is about stands for the question.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [...about, x, y, at === null]);
  return found;
}
