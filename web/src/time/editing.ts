import { changeStep, findStep } from "@/api/recipe";
import { useDraft } from "@/shot/draft";

import {
  type Key,
  type Place,
  type Way,
  canMove,
  inOrder,
  isKeyed,
  movingIn,
  placed,
  shifted,
  valueAt,
  valueIn,
  withKey,
} from "./keys";
import { useTime } from "./timeState";

/** Change the keys at a place of a step; without any left, what it was at the present frame stays. */
export function editKeysAt(step: string, place: Place, change: (keys: Key[]) => Key[], done = true): void {
  const { frame } = useTime.getState();
  useDraft.getState().editKeys(
    (recipe) =>
      changeStep(recipe, step, (own) => {
        const before = valueIn(own, place);
        if (!isKeyed(before)) return own;
        const keys = change(before.keys);
        return placed(own, place, () => (keys.length ? { keys } : valueAt(before.keys, frame)));
      }),
    done,
  );
}

/** A key at the present frame for what stands at a place, or, where there is one, take it away. */
export function toggleKey(step: string, place: Place, initial: unknown): void {
  const { frame } = useTime.getState();
  useDraft.getState().editKeys((recipe) =>
    changeStep(recipe, step, (own) => {
      const before = valueIn(own, place) ?? initial;
      if (!isKeyed(before))
        return canMove(before) ? placed(own, place, () => ({ keys: [[frame, before]] })) : own;
      const now = valueAt(before.keys, frame);
      const there = before.keys.some((key) => key[0] === frame);
      const keys = there ? before.keys.filter((key) => key[0] !== frame) : withKey(before.keys, frame, now);
      return placed(own, place, () => (keys.length ? { keys } : now));
    }),
  );
}

/** Keys at the present frame for all that moves in a step, or, where all have one, take them away. */
export function toggleKeys(step: string): void {
  const { frame } = useTime.getState();
  const moving = movingIn(findStep(useDraft.getState().recipe, step));
  const all = moving.every(({ keys }) => keys.some((key) => key[0] === frame));
  for (const { place, keys } of moving)
    if (all || !keys.some((key) => key[0] === frame)) toggleKey(step, place, undefined);
}

/** All keys of a step at some frames, moved together; false where another of its keys stands in the way. */
export function moveKeysOf(step: string, frames: readonly number[], by: number, done: boolean): boolean {
  const moving = movingIn(findStep(useDraft.getState().recipe, step)).filter(({ keys }) =>
    keys.some((key) => frames.includes(key[0])),
  );
  const blocked = moving.some(({ keys }) =>
    keys.some((key) => !frames.includes(key[0]) && frames.includes(key[0] - by) && has(keys, key[0] - by)),
  );
  if (blocked) return false;
  for (const { place } of moving) editKeysAt(step, place, (own) => shifted(own, frames, by), false);
  if (done) useDraft.getState().settle();
  return true;
}

const has = (keys: readonly Key[], frame: number) => keys.some((key) => key[0] === frame);

/** Take all keys of a step at some frames away. */
export function removeKeysOf(step: string, frames: readonly number[]): void {
  for (const { place } of movingIn(findStep(useDraft.getState().recipe, step)))
    editKeysAt(step, place, (own) => own.filter((key) => !frames.includes(key[0])), false);
  useDraft.getState().settle();
}

export const setWay = (keys: readonly Key[], taken: readonly number[], way: Way): Key[] =>
  keys.map((key) => (taken.includes(key[0]) ? [key[0], key[1], way] : key));

/** Copied keys put in at a frame; what stands there already gives way. */
export function pasted(keys: readonly Key[], copied: readonly Key[], frame: number): Key[] {
  const by = frame - copied[0]![0];
  const coming = copied.map(([at, ...rest]) => [at + by, ...rest] as Key);
  return inOrder([...keys.filter((key) => !coming.some((other) => other[0] === key[0])), ...coming]);
}
