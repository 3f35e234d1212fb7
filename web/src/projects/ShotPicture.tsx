import { useQuery } from "@tanstack/react-query";
import { useRef } from "react";

import { getForBytes } from "@/api/client";
import { useSeen } from "@/parts/useSeen";
import { useSettled } from "@/parts/useSettled";
import { planesOf } from "@/stage/painting";
import { SmallPicture } from "@/stage/SmallPicture";

interface Props {
  shot: number;
  revision: number;
  picture: string;
  frame: number;
  /** Of which the size is the nth part. */
  scale: 4 | 8;
  label: string;
}

/** The kept picture of a saved revision, fetched once it is in sight. */
export function ShotPicture({ shot, revision, picture, frame, scale, label }: Props) {
  const place = useRef<HTMLSpanElement>(null);
  const seen = useSeen(place);
  const asked = (size: number) => ({
    queryKey: ["shot-picture", shot, revision, picture, frame, size],
    queryFn: async () =>
      planesOf(
        await getForBytes(
          `/api/shots/${shot}/revisions/${revision}/view/${picture}?scale=${size}&frame=${frame}`,
        ),
      ),
    retry: false,
  });
  // The small ones of a whole wall come first, a quarter of the bytes each; then those of the size that is shown.
  const small = useQuery({ ...asked(8), enabled: seen });
  const calm = useSettled(small.isSuccess, 700);
  const full = useQuery({ ...asked(scale), enabled: calm && scale !== 8 });
  const planes = full.isSuccess ? full : small;
  return (
    <span ref={place} className="block aspect-video w-full overflow-hidden bg-well">
      {seen && (
        <SmallPicture
          planes={planes.data}
          error={planes.error}
          label={label}
          className="h-full w-full !object-cover"
        />
      )}
    </span>
  );
}
