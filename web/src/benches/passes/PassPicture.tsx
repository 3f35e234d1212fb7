import type { Item } from "@/api/client";
import { useSmallPlanes } from "@/stage/planes";
import { SmallPicture } from "@/stage/SmallPicture";

/** A pass or a sum as a small picture. */
export function PassPicture({
  shot,
  item,
  address,
}: {
  shot: number;
  item: Item | undefined;
  address: string;
}) {
  const planes = useSmallPlanes(shot, item, address);
  return (
    <SmallPicture
      planes={planes.data}
      error={planes.error}
      look={{ backing: { kind: "none" } }}
      label={address}
      className="h-9 w-full border border-line"
    />
  );
}
