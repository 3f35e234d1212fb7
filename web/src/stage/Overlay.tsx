import { type PointerEvent, useEffect, useRef, useState } from "react";

import type { Gesture } from "@/benches/mattes/gestures";
import { usePressed } from "@/shot/usePressed";

import type { Placement } from "./geometry";
import { useNavigation } from "./navigation";
import { Ring } from "./Ring";
import { useTools } from "./tools";

interface Props {
  placement: Placement;
  gesture: Gesture;
  onHover: (at: [number, number] | null) => void;
  children: React.ReactNode;
}

/** Takes the pointer over the stage while a tool is in hand. Space or the middle button pans, the wheel zooms. */
export function Overlay({ placement, gesture, onHover, children }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const navigation = useNavigation(box, placement);
  const space = usePressed(" ");
  const { tool, brush, markRadius, ring } = useTools();
  const [pointer, setPointer] = useState<[number, number] | null>(null);
  const panning = useRef(false);
  /** What the pointer holds, as it was when it went down. */
  const inHand = useRef<Gesture | null>(null);
  const marking = tool === "subject" || tool === "background";
  const radius = (marking ? markRadius : brush.radius) * placement.zoom;

  useEffect(() => {
    if (ring) panning.current = false;
  }, [ring]);

  // Given up by Escape, by another tool, and where the pointer is taken away.
  const giveUp = () => {
    inHand.current?.giveUp();
    inHand.current = null;
  };
  useEffect(() => {
    const key = (event: KeyboardEvent) => {
      if (event.key !== "Escape" || !inHand.current) return;
      giveUp();
      event.preventDefault();
      event.stopImmediatePropagation();
    };
    window.addEventListener("keydown", key, true);
    return () => {
      window.removeEventListener("keydown", key, true);
      giveUp();
    };
  }, [tool]);

  const track = (event: PointerEvent) => {
    const own = event.currentTarget.getBoundingClientRect();
    setPointer([event.clientX - own.left, event.clientY - own.top]);
  };
  return (
    <div
      ref={box}
      data-testid="overlay"
      className={`absolute inset-0 touch-none select-none overflow-hidden ${space ? "cursor-grab" : tool === "shape" ? "cursor-crosshair" : "cursor-none"}`}
      onPointerDown={(event) => {
        if (ring) return;
        if (event.button === 1 || space) {
          panning.current = true;
          return navigation.start(event);
        }
        if (event.button !== 0) return;
        event.currentTarget.setPointerCapture(event.pointerId);
        inHand.current = gesture;
        gesture.down(navigation.at(event), event);
      }}
      onPointerMove={(event) => {
        track(event);
        if (ring) return;
        // Numbers of what is about to be painted over are of no use, and would be asked for at every step.
        if (!inHand.current) onHover(navigation.at(event));
        if (panning.current) navigation.move(event);
        else if (inHand.current) {
          // Every position that the device reported since the last event, for smooth strokes.
          const native = event.nativeEvent.getCoalescedEvents?.() ?? [];
          const own = event.currentTarget.getBoundingClientRect();
          for (const each of native.slice(0, -1))
            gesture.move(
              [
                placement.left + (each.clientX - own.left) / placement.zoom,
                placement.top + (each.clientY - own.top) / placement.zoom,
              ],
              event,
            );
          gesture.move(navigation.at(event), event);
        }
      }}
      onPointerUp={(event) => {
        if (inHand.current && event.button === 0) {
          inHand.current = null;
          gesture.up(navigation.at(event), event);
          onHover(navigation.at(event));
        }
        panning.current = false;
        navigation.stop();
      }}
      onPointerCancel={() => {
        giveUp();
        panning.current = false;
        navigation.stop();
      }}
      onDoubleClick={(event) => {
        const own = event.currentTarget.getBoundingClientRect();
        gesture.twice?.([
          placement.left + (event.clientX - own.left) / placement.zoom,
          placement.top + (event.clientY - own.top) / placement.zoom,
        ]);
      }}
      onPointerLeave={() => {
        setPointer(null);
        onHover(null);
      }}
    >
      {children}
      {pointer && tool !== "shape" && !ring && (
        <svg className="pointer-events-none absolute inset-0 h-full w-full" aria-hidden>
          <circle
            cx={pointer[0]}
            cy={pointer[1]}
            r={radius}
            fill="none"
            stroke="#000"
            strokeWidth={2.5}
            strokeOpacity={0.5}
          />
          <circle cx={pointer[0]} cy={pointer[1]} r={radius} fill="none" stroke="#fff" strokeWidth={1} />
          {!marking && brush.hardness < 0.98 && (
            <circle
              cx={pointer[0]}
              cy={pointer[1]}
              r={radius * brush.hardness}
              fill="none"
              stroke="#fff"
              strokeOpacity={0.6}
              strokeWidth={0.8}
              strokeDasharray="2 3"
            />
          )}
          <circle cx={pointer[0]} cy={pointer[1]} r={1} fill="#fff" stroke="#000" strokeWidth={0.5} />
        </svg>
      )}
      {ring && <Ring width={placement.width} height={placement.height} start={pointer} />}
    </div>
  );
}
