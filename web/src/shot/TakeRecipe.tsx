import { itemsOf, sourcesOf, stepsOf } from "@/api/recipe";
import { Button } from "@/parts/Button";
import { Modal } from "@/parts/Modal";

import { useDraft } from "./draft";
import { tied, useDropped } from "./recipes";
import { useDraftSources } from "./sources";

/** Asks what becomes of a recipe file that was dropped on the shot. */
export function TakeRecipe() {
  const { file, put } = useDropped();
  const { recipe: own, edit } = useDraft();
  const rows = useDraftSources();
  if (!file) return null;
  const { recipe, missing } = tied(file.recipe, rows);
  const count = stepsOf(recipe).length;
  return (
    <Modal title="A recipe was dropped" about={file.name} open onClose={() => put(null)}>
      <p className="mb-2 text-[12px] text-dim">
        {count} {count === 1 ? "step" : "steps"}, {Object.keys(sourcesOf(recipe)).length} sources. It takes
        the place of this shot&apos;s recipe of {itemsOf(own).length} items; undo brings that back.
      </p>
      {missing.length > 0 && (
        <p className="mb-2 border-l-2 border-clay pl-2 text-[12px] text-clay">
          This shot has no file called {missing.slice(0, 5).join(", ")}
          {missing.length > 5 && ` and ${missing.length - 5} more`}: add{" "}
          {missing.length === 1 ? "it" : "them"}, or replace{" "}
          {missing.length === 1 ? "the source" : "the sources"} by other files afterwards.
        </p>
      )}
      <div className="flex justify-end gap-2">
        <Button onClick={() => put(null)}>Cancel</Button>
        <Button
          main
          overwrites
          onClick={() => {
            put(null);
            edit(() => recipe);
          }}
        >
          Take this recipe
        </Button>
      </div>
    </Modal>
  );
}
