import type { Item, OperationRow } from "@/api/client";
import type { Recipe } from "@/api/recipe";

/** What every bench's panel is given. */
export interface BenchProps {
  shot: number;
  recipe: Recipe;
  items: Item[];
  item: string | null;
  operations: OperationRow[];
  writable: boolean;
  onTurnRound: () => void;
  /** Change the recipe and bring the named item into focus. */
  onPut: (change: (before: Recipe) => [Recipe, string]) => void;
}
