import { useQueries } from "@tanstack/react-query";
import { useCallback } from "react";

import { sourceQuery } from "@/api/queries";
import { type Recipe, sourcesOf } from "@/api/recipe";
import { useDraftSources } from "@/shot/sources";

/** The range that a source's data channel is shown through, by item and channel; see `dataRange`. */
export function useRanges(shot: number, recipe: Recipe) {
  const rows = useDraftSources();
  const specs = Object.entries(sourcesOf(recipe));
  const ids = specs.map(
    ([, spec]) => rows.find((row) => row.files === spec.files && row.state === "ready")?.id,
  );
  const answers = useQueries({
    queries: ids.map((id) => sourceQuery(shot, id, false)),
  });
  const data = answers.map((answer) => answer.data);
  return useCallback(
    (item: string, channel: string): [number, number] | undefined => {
      const index = specs.findIndex(([name]) => name === item);
      const row = data[index]?.channel_rows.find((entry) => entry.name === channel);
      return row && !row.colour && row.report ? dataRange(row.report, row.role) : undefined;
    },
    // The queries' data are stable between answers.
    // eslint-disable-next-line react-hooks/exhaustive-deps
    [JSON.stringify(ids), ...data],
  );
}

/** The ends that a data channel is shown between: -1 to 1 for normals, percentiles where it leaves 0 to 1. */
export function dataRange(
  report: { min: number; max: number; percentiles: Record<string, number> },
  role = "",
): [number, number] {
  if (report.min >= 0 && report.max <= 1) return [0, 1];
  if (role === "normal") return [-1, 1];
  const [low, high] = [report.percentiles["1"] ?? report.min, report.percentiles["99"] ?? report.max];
  return high > low ? [low, high] : [low, low + 1];
}
