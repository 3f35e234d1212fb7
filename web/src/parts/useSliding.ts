import { type PointerEvent, useRef } from "react";

/**
 * What a slider needs to be moved: finely while Shift is held, by the pointer or by keys; `done` is false while the
 * handle is being dragged.
 */
export function useSliding(value: number, onChange: (value: number, done: boolean) => void) {
  const fine = useRef<{ at: number; value: number } | null>(null);
  const shift = useRef(false);
  const committed = useRef<number | null>(null);
  const settle = (raw: number) => {
    if (!shift.current) {
      fine.current = null;
      return raw;
    }
    fine.current ??= { at: raw, value };
    return Number((fine.current.value + (raw - fine.current.at) * 0.1).toPrecision(8));
  };
  const hold = (event: PointerEvent) => (shift.current = event.shiftKey);
  return {
    onPointerDownCapture: hold,
    onPointerMoveCapture: hold,
    onValueChange: ([raw]: number[]) => {
      // A key commits first, and tells of the change after.
      if (committed.current !== raw) onChange(settle(raw!), false);
      committed.current = null;
    },
    onValueCommit: ([raw]: number[]) => {
      committed.current = raw!;
      onChange(fine.current ? value : raw!, true);
      fine.current = null;
    },
  };
}
