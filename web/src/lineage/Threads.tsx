import { type RefObject, useLayoutEffect, useState } from "react";

import type { Item } from "@/api/client";
import type { Recipe } from "@/api/recipe";

interface Props {
  width: number;
  recipe: Recipe;
  items: Item[];
  item: string | null;
  container: RefObject<HTMLDivElement | null>;
}

/** Arcs above the ribbon from the chosen item to its inputs and to what uses it. */
export function Threads({ width, recipe, items, item, container }: Props) {
  const [arcs, setArcs] = useState<{ key: string; path: string; input: boolean }[]>([]);
  useLayoutEffect(() => {
    const middle = (name: string) => {
      const cell = container.current?.querySelector<HTMLElement>(`[data-cell="${name}"]`);
      return cell ? cell.offsetLeft + cell.offsetWidth / 2 : null;
    };
    const here = item ? middle(item) : null;
    const own = items.find((entry) => entry.name === item)?.inputs ?? [];
    const users = items.filter((entry) => item && entry.inputs.includes(item)).map((entry) => entry.name);
    const next = [];
    for (const [name, input] of [
      ...own.map((n) => [n, true] as const),
      ...users.map((n) => [n, false] as const),
    ]) {
      const there = middle(name);
      if (here === null || there === null) continue;
      const [a, b] = [here + (there > here ? 18 : -18), there + (there > here ? -12 : 12)];
      next.push({
        key: name,
        input,
        path: `M${a} 13V8Q${a} 4 ${a + Math.sign(b - a) * 6} 4H${b - Math.sign(b - a) * 6}Q${b} 4 ${b} 8V13`,
      });
    }
    setArcs(next);
  }, [recipe, items, item, container]);
  return (
    <svg className="pointer-events-none absolute left-0 top-0 h-3.5" width={width} aria-hidden>
      {arcs.map((arc) => (
        <path
          key={arc.key}
          d={arc.path}
          fill="none"
          className="stroke-lichen"
          strokeWidth={1}
          opacity={arc.input ? 0.95 : 0.5}
          strokeDasharray={arc.input ? undefined : "3 3"}
        />
      ))}
    </svg>
  );
}
