import { useEffect } from "react";

import { isTyping } from "@/parts/typing";
import { useTools } from "@/stage/tools";

const HOLD = 220;

/** T: tapped, the touch-up tool is taken or put down; held, its ring of settings is open for as long. */
export function useTouchKey(writable: boolean): void {
  useEffect(() => {
    let timer: ReturnType<typeof setTimeout> | undefined;
    let down = false;
    let held = false;
    const tools = () => useTools.getState();
    const press = (event: KeyboardEvent) => {
      if (event.key.toLowerCase() !== "t" || event.ctrlKey || event.metaKey || event.altKey || !writable)
        return;
      if (isTyping(event.target)) return;
      event.preventDefault();
      if (down) return;
      down = true;
      held = false;
      timer = setTimeout(() => {
        held = true;
        tools().change({ tool: "touch", ring: true });
      }, HOLD);
    };
    const release = (event: KeyboardEvent) => {
      if (event.key.toLowerCase() !== "t" || !down) return;
      stop();
      if (!held) tools().change({ tool: tools().tool === "touch" ? "none" : "touch" });
    };
    const stop = () => {
      down = false;
      clearTimeout(timer);
      if (tools().ring) tools().change({ ring: false });
    };
    window.addEventListener("keydown", press);
    window.addEventListener("keyup", release);
    window.addEventListener("blur", stop);
    return () => {
      stop();
      window.removeEventListener("keydown", press);
      window.removeEventListener("keyup", release);
      window.removeEventListener("blur", stop);
    };
  }, [writable]);
}
