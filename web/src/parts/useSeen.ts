import { type RefObject, useEffect, useState } from "react";

/** Whether a place has ever come near what is in sight: what costs something begins then. */
export function useSeen(place: RefObject<Element | null>): boolean {
  const [seen, setSeen] = useState(false);
  useEffect(() => {
    const watcher = new IntersectionObserver(
      (entries) => entries.some((entry) => entry.isIntersecting) && setSeen(true),
      { rootMargin: "300px" },
    );
    watcher.observe(place.current!);
    return () => watcher.disconnect();
  }, [place]);
  return seen;
}
