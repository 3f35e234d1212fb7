import { useLayoutEffect, useRef, useState } from "react";

// eslint-disable-next-line @typescript-eslint/no-explicit-any -- functions of any kind
type Functions = Record<string, (...values: any[]) => any>;

/**
 * Functions that stay the same while what they do changes: each calls the newest of its name. What is drawn with them
 * need not be drawn again for them. Not to be called while something is drawn.
 */
export function useSteady<T extends Functions>(functions: T): T {
  const latest = useRef(functions);
  useLayoutEffect(() => {
    latest.current = functions;
  });
  const [steady] = useState(() =>
    Object.fromEntries(
      Object.keys(functions).map((name) => [
        name,
        (...values: unknown[]) => latest.current[name]!(...values),
      ]),
    ),
  );
  return steady as T;
}
