import { type PointerEvent, type RefObject, useEffect, useRef } from "react";

import { type Placement, position, zoomAt } from "./geometry";
import { useView } from "./viewState";

/** Wheel to zoom at the pointer, drag to pan: handlers for whatever lies on top of a pane. */
export function useNavigation(target: RefObject<HTMLElement | null>, placement: Placement) {
  const change = useView((state) => state.change);
  const drag = useRef<{ x: number; y: number; centre: [number, number] } | null>(null);

  useEffect(() => {
    const element = target.current;
    const turn = (event: WheelEvent) => {
      event.preventDefault();
      const box = element!.getBoundingClientRect();
      const factor = Math.exp(-event.deltaY * (event.ctrlKey ? 0.01 : 0.0016));
      change(zoomAt(placement, event.clientX - box.left, event.clientY - box.top, factor));
    };
    element?.addEventListener("wheel", turn, { passive: false });
    return () => element?.removeEventListener("wheel", turn);
  }, [target, placement, change]);

  return {
    /** The picture position under an event. */
    at: (event: PointerEvent): [number, number] => {
      const box = event.currentTarget.getBoundingClientRect();
      return position(placement, event.clientX - box.left, event.clientY - box.top);
    },
    start: (event: PointerEvent) => {
      event.currentTarget.setPointerCapture(event.pointerId);
      drag.current = {
        x: event.clientX,
        y: event.clientY,
        centre: [
          placement.left + placement.width / 2 / placement.zoom,
          placement.top + placement.height / 2 / placement.zoom,
        ],
      };
    },
    move: (event: PointerEvent) => {
      const from = drag.current;
      if (!from) return false;
      const [dx, dy] = [event.clientX - from.x, event.clientY - from.y];
      if (Math.hypot(dx, dy) > 2)
        change({
          zoom: placement.zoom,
          centre: [from.centre[0] - dx / placement.zoom, from.centre[1] - dy / placement.zoom],
        });
      return true;
    },
    stop: () => (drag.current = null),
  };
}
