import { useQuery } from "@tanstack/react-query";
import { create } from "zustand";

import { api, got } from "@/api/client";
import { type Recipe, type Step, insertNamed } from "@/api/recipe";
import type { components } from "@/api/schema";

export type ChainRow = Omit<components["schemas"]["ChainRow"], "steps"> & { steps: Step[] };

export const chainsKey = (project: number) => ["chains", project];

/** The kept chains of a project, by name. */
export function useChains(project: number) {
  return useQuery({
    queryKey: chainsKey(project),
    queryFn: async () =>
      (await got(
        api.GET("/api/projects/{project_id}/chains", { params: { path: { project_id: project } } }),
      )) as unknown as ChainRow[],
    staleTime: 30_000,
  });
}

/** Steps to be pasted, and of what chain they are. */
export interface Pasting {
  steps: Step[];
  chain?: ChainRow;
  /** What they are fed from here, by the names of what they were fed from. */
  instead?: Record<string, string>;
}

interface Put {
  name: string;
  /** The steps of the chain, as they are called in this shot. */
  steps: string[];
  /** Step and setting, of the settings that come first. */
  first: [string, string][];
}

interface PutState {
  /** The chain that was put to use last, for as long as its first settings are looked at. */
  put: Put | null;
  change: (put: Put | null) => void;
}

export const usePut = create<PutState>((set) => ({ put: null, change: (put) => set({ put }) }));

/** The recipe with pasted steps behind an item, the last of them, and what is to be seen first of their chain. */
export function putToUse(
  recipe: Recipe,
  { steps, chain, instead }: Pasting,
  item: string | null,
): [Recipe, string, Put | null] {
  const [next, last, names] = insertNamed(recipe, steps, item, instead);
  if (!chain) return [next, last, null];
  return [
    next,
    last,
    {
      name: chain.name,
      steps: [...names.values()],
      first: chain.first.map(([step, setting]) => [names.get(step) ?? step, setting]),
    },
  ];
}
