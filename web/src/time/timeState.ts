import { create } from "zustand";

export const RATES = [24, 25, 30];

interface TimeState {
  /** The frame that everything shows. */
  frame: number;
  /** The frame that is seen while it plays; null while it stands. */
  playhead: number | null;
  /** The frames that are played: the first and the last. */
  range: [number, number];
  rate: number;
  loop: boolean;
  /** Pictures a second that were really shown, where it can't keep up; else null. */
  reached: number | null;
  /** Frames that can be played at once. */
  ready: ReadonlySet<number>;
  /** Frames taken together in the course of a setting. */
  taken: { place: string; frames: number[] } | null;
  /** Keys that were copied: frames from the first on, values, ways. */
  copied: [number, unknown, string?][] | null;
  change: (to: Partial<TimeState>) => void;
  reset: (frame: number) => void;
}

const NONE: ReadonlySet<number> = new Set();
const START = { playhead: null, reached: null, ready: NONE, taken: null };

/** Where in time the shot is looked at, and how it plays; nothing of it is part of the recipe. */
export const useTime = create<TimeState>((set) => ({
  ...START,
  frame: 1,
  range: [1, 1],
  rate: 24,
  loop: true,
  copied: null,
  change: (to) => set(to),
  reset: (frame) => set({ ...START, frame }),
}));

/** Go to a frame; what plays stops there. */
export function goTo(frame: number): void {
  useTime.getState().change({ frame: Math.round(frame), playhead: null, reached: null });
}

/** Play from the present frame, or stop at the one that is seen. */
export function playOrStop(): void {
  const { playhead, frame, change } = useTime.getState();
  if (playhead !== null) goTo(playhead);
  else change({ playhead: frame, reached: null });
}
