import { useEffect, useState } from "react";

/** A value as it was before something is dragged, until that stands still for a moment or is let go. */
export function useCalm<T>(value: T, dragged: boolean, milliseconds = 250): T {
  const [calm, setCalm] = useState(value);
  // While it is drawn: what is not dragged is never drawn as it was before.
  if (!dragged && calm !== value) setCalm(value);
  useEffect(() => {
    if (!dragged) return;
    const timer = setTimeout(() => setCalm(value), milliseconds);
    return () => clearTimeout(timer);
  }, [value, dragged, milliseconds]);
  return dragged ? calm : value;
}
