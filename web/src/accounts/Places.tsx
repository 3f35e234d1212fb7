import { useQuery, useQueryClient } from "@tanstack/react-query";

import { api, got, problemOf } from "@/api/client";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";
import { Waiting } from "@/parts/Waiting";
import { useAttempt } from "@/parts/useAttempt";
import { when } from "@/parts/when";

import { browserWords } from "./browsers";

/** Where one is signed in; elsewhere it can be ended. */
export function Places() {
  const client = useQueryClient();
  const rows = useQuery({
    queryKey: ["places"],
    queryFn: () => got(api.GET("/api/session/places")),
    gcTime: 0,
  });
  const { problem, attempt } = useAttempt(() => client.invalidateQueries({ queryKey: ["places"] }));
  return (
    <section aria-label="Where you are signed in" className="mt-4 border-t border-line pt-3 text-[12px]">
      <h3 className="mb-1.5 text-dim">Where you are signed in</h3>
      {rows.isPending && <Waiting text="Fetching" />}
      {rows.isError && <Message problem={problemOf(rows.error)} />}
      {problem && <Message problem={problem} />}
      <ul className="max-h-40 divide-y divide-line overflow-y-auto">
        {rows.data?.map((place) => (
          <li key={place.id} className="flex items-center gap-3 py-1.5">
            <span className="min-w-0 grow" title={place.browser}>
              <span className="block truncate">
                {browserWords(place.browser)}
                {place.here && <span className="text-lichen"> · this one</span>}
              </span>
              <span className="block truncate text-[11px] text-faint">
                {place.address}, since {when(place.since)}, seen {when(place.seen)}
              </span>
            </span>
            {!place.here && (
              <Button
                aria-label={`Sign out there, ${browserWords(place.browser)} at ${place.address}`}
                onClick={() =>
                  void attempt(() =>
                    got(
                      api.DELETE("/api/session/places/{place_id}", {
                        params: { path: { place_id: place.id } },
                      }),
                    ),
                  )
                }
              >
                Sign out there
              </Button>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}
