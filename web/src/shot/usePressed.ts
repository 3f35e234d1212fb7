import { useEffect, useState } from "react";

/** Whether a key is being held, outside of fields that take text. */
export function usePressed(key: string): boolean {
  const [pressed, setPressed] = useState(false);
  useEffect(() => {
    const down = (event: KeyboardEvent) => {
      if (
        event.key !== key ||
        (event.target as HTMLElement).closest("input, textarea, button, [role=dialog]")
      )
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
