import { useEffect, useState } from "react";

import { isTyping } from "@/parts/typing";

/** Whether a key is being held, outside of fields that take text. */
export function usePressed(key: string): boolean {
  const [pressed, setPressed] = useState(false);
  useEffect(() => {
    const down = (event: KeyboardEvent) => {
      if (event.key !== key || isTyping(event.target) || (event.target as HTMLElement).closest("button"))
        return;
      event.preventDefault();
      setPressed(true);
    };
    const up = (event: KeyboardEvent) => event.key === key && setPressed(false);
    const leave = () => setPressed(false);
    window.addEventListener("keydown", down);
    window.addEventListener("keyup", up);
    window.addEventListener("blur", leave);
    return () => {
      window.removeEventListener("keydown", down);
      window.removeEventListener("keyup", up);
      window.removeEventListener("blur", leave);
    };
  }, [key]);
  return pressed;
}
