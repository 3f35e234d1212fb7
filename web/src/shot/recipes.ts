import { create } from "zustand";

import { newestOf } from "./sequences";

import { ApiError, type SourceRow } from "@/api/client";
import { type Recipe, sourcesOf, stepsOf } from "@/api/recipe";

/** A recipe file that was dropped on the shot and waits for an answer. */
interface Dropped {
  file: { name: string; recipe: Recipe } | null;
  put: (file: Dropped["file"]) => void;
}

export const useDropped = create<Dropped>((set) => ({ file: null, put: (file) => set({ file }) }));

const MOST_BYTES = 8_000_000;

/** Whether a file may be a recipe: a text by its name, and no manifest of channel files. */
export const mayBeRecipe = (file: File) =>
  file.name.endsWith(".json") && !file.name.endsWith(".channels.json") && file.size < MOST_BYTES;

/** Whether a text holds names and hex numbers alone, as a manifest of ids does. */
export async function isManifest(file: File): Promise<boolean> {
  try {
    const data: unknown = JSON.parse(await file.text());
    if (typeof data !== "object" || data === null || Array.isArray(data) || "nexal" in data) return false;
    const values = Object.values(data);
    return (
      values.length > 0 &&
      values.every((value) => typeof value === "string" && /^(0x)?[0-9a-f]{1,8}$/i.test(value))
    );
  } catch {
    return false;
  }
}

/** The recipe in a file. Throws ApiError that says what it is not. */
export async function recipeIn(file: File): Promise<Recipe> {
  const refuse = (message: string) =>
    new ApiError(422, {
      code: "recipe",
      message,
      where: file.name,
      remedy: "choose a recipe that was downloaded from a shot",
    });
  let data: unknown;
  try {
    data = JSON.parse(await file.text());
  } catch {
    throw refuse("is no JSON, and so no recipe");
  }
  if (typeof data !== "object" || data === null || !("nexal" in data))
    throw refuse("is JSON, but no recipe: it has no `nexal`");
  const found = data as Recipe;
  const sound =
    found.nexal === 1 &&
    (found.steps === undefined || Array.isArray(found.steps)) &&
    stepsOf(found).every((step) => typeof step?.name === "string" && typeof step.op === "string") &&
    Object.values(sourcesOf(found)).every((spec) => typeof spec?.files === "string");
  if (!sound) throw refuse("is a recipe that is not understood here");
  return found;
}

const lastPart = (path: string) => path.replaceAll("\\", "/").split("/").pop()!.toLowerCase();

/** The recipe with its sources tied to the shot's files of the same names, and the names that no file has. */
export function tied(recipe: Recipe, rows: SourceRow[]): { recipe: Recipe; missing: string[] } {
  const missing: string[] = [];
  const sources = Object.entries(sourcesOf(recipe)).map(([name, spec]) => {
    const wanted = lastPart(spec.files);
    const row =
      rows.find((each) => each.files === spec.files) ?? rows.find((each) => lastPart(each.files) === wanted);
    if (!row) missing.push(spec.files);
    // A version is that of another import.
    const { version: _, ...read } = spec;
    return [name, row ? { ...read, ...newestOf(row) } : spec];
  });
  return {
    recipe: { ...recipe, sources: Object.fromEntries(sources) as Recipe["sources"] & object },
    missing,
  };
}
