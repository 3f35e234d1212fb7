import { useQuery } from "@tanstack/react-query";

import { api, got, problemOf } from "@/api/client";
import { type Recipe, drafted, recipeKey } from "@/api/recipe";
import { Message } from "@/parts/Message";
import { useSettled } from "@/parts/useSettled";

interface Props {
  shot: number;
  recipe: Recipe;
  name: string;
  /** A recipe's output as it is chosen so far. */
  spec: Record<string, unknown>;
  /** The first and the last frame that would be rendered. */
  frames: [number, number];
}

/** What rendering would write: format, depth, encoding, alpha, channels, size and files, in one line. */
export function Announcement({ shot, recipe, name, spec, frames: [first, last] }: Props) {
  // While somebody types, nothing is asked.
  const asked = useSettled(JSON.stringify({ name, spec, first, last }));
  const answer = useQuery({
    queryKey: ["announcement", shot, recipeKey(recipe), asked],
    queryFn: () =>
      got(
        api.POST("/api/shots/{shot_id}/announcement", {
          params: { path: { shot_id: shot } },
          body: {
            ...drafted(recipe),
            step: 1,
            ...(JSON.parse(asked) as {
              name: string;
              spec: Record<string, unknown>;
              first: number;
              last: number;
            }),
          },
        }),
      ),
    placeholderData: (before) => before,
    retry: false,
  });
  if (answer.isError) return <Message problem={problemOf(answer.error)} />;
  return (
    <div
      role="status"
      aria-label="What will be written"
      className="min-h-8 space-y-1 text-[12px] leading-snug"
    >
      {answer.data && <p className="text-text">{answer.data.line}</p>}
      {answer.data?.same && (
        <p className="text-clay">
          All {last - first + 1} files will hold the same picture: nothing in it moves. Leave the number out
          of the file name to write it once.
        </p>
      )}
    </div>
  );
}
