import type { Recipe } from "@/api/recipe";
import { useSmallPlanes } from "@/stage/planes";
import { SmallPicture } from "@/stage/SmallPicture";

/** A pass or a sum as a small picture. */
export function PassPicture({
  shot,
  recipe,
  address,
  digest,
}: {
  shot: number;
  recipe: Recipe;
  address: string;
  digest: string;
}) {
  const planes = useSmallPlanes(shot, recipe, address, digest);
  return (
    <SmallPicture
      planes={planes.data}
      look={{ backing: { kind: "none" } }}
      label={address}
      className="h-9 w-full border border-line"
    />
  );
}
