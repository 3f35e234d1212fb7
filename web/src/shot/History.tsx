import { useInfiniteQuery, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, getForBytes, got, problemOf } from "@/api/client";
import { type Recipe, itemsOf } from "@/api/recipe";
import type { components } from "@/api/schema";
import { Button } from "@/parts/Button";
import { Choose } from "@/parts/Choose";
import { Message } from "@/parts/Message";
import { Modal } from "@/parts/Modal";
import { Waiting } from "@/parts/Waiting";
import { when } from "@/parts/when";
import { planesOf } from "@/stage/painting";
import { SmallPicture } from "@/stage/SmallPicture";
import { useView } from "@/stage/viewState";
import { lookedAt } from "@/time/keys";
import { useTime } from "@/time/timeState";

import { useDraft } from "./draft";
import { restoring } from "./server";

type Row = components["schemas"]["HistoryRow"];

interface Props {
  shot: number;
  /** What is in focus: an earlier revision's is looked at beside it. */
  item: string | null;
  writable: boolean;
  /** The revision that was seen last, where others have gone on since. */
  since: number | null;
  onClose: () => void;
}

/** A shot's revisions: looked at beside the present one, told apart in words, named, restored. */
export function History({ shot, item, writable, since, onClose }: Props) {
  const { head, editKeys } = useDraft();
  const frame = useTime((state) => state.frame);
  const change = useView((state) => state.change);
  const client = useQueryClient();
  const [chosen, setChosen] = useState<number | null>(null);
  const [trouble, setTrouble] = useState<unknown>(null);
  const pages = useInfiniteQuery({
    queryKey: ["history", shot, head?.number],
    queryFn: ({ pageParam }) =>
      got(
        api.GET("/api/shots/{shot_id}/history", {
          params: { path: { shot_id: shot }, query: pageParam === null ? {} : { before: pageParam } },
        }),
      ),
    initialPageParam: null as number | null,
    getNextPageParam: (last) => (last.more ? last.rows[last.rows.length - 1]!.number : null),
    gcTime: 0,
  });
  const rows = pages.data?.pages.flatMap((page) => page.rows) ?? [];
  const recipeOf = async (number: number) =>
    (
      await got(
        api.GET("/api/shots/{shot_id}/revisions/{number}", {
          params: { path: { shot_id: shot, number } },
        }),
      )
    ).recipe as unknown as Recipe;
  const attempt = (work: () => Promise<void>) => {
    setTrouble(null);
    void work().catch(setTrouble);
  };
  const beside = (row: Row, panes: "split" | "difference") =>
    attempt(async () => {
      const recipe = lookedAt(await recipeOf(row.number), frame);
      const address = item && itemsOf(recipe).includes(item) ? item : row.picture;
      if (!address) return;
      change({ pin: { recipe, address, channels: null }, panes });
      onClose();
    });
  const restore = (row: Row) =>
    attempt(async () => {
      const recipe = await recipeOf(row.number);
      restoring(recipe, row.number);
      editKeys(() => recipe);
      onClose();
    });
  const name = (row: Row, to: string) =>
    attempt(async () => {
      if (to.trim() === row.name) return;
      await got(
        api.PUT("/api/shots/{shot_id}/revisions/{number}/name", {
          params: { path: { shot_id: shot, number: row.number } },
          body: { name: to },
        }),
      );
      await client.invalidateQueries({ queryKey: ["history", shot] });
    });
  return (
    <Modal title="History" open onClose={onClose} width={720}>
      {trouble !== null && <Message problem={problemOf(trouble)} />}
      {pages.isError && <Message problem={problemOf(pages.error)} />}
      {pages.isPending && <Waiting text="Fetching the history" />}
      <ul aria-label="Revisions" className="divide-y divide-line text-[12px]">
        {rows.map((row) => (
          <li key={row.number} data-revision={row.number}>
            <button
              type="button"
              aria-expanded={chosen === row.number}
              onClick={() => setChosen(chosen === row.number ? null : row.number)}
              className="grid w-full grid-cols-[76px_40px_1fr_auto] items-center gap-3 px-1.5 py-1.5 text-left hover:bg-raised"
            >
              <RevisionPicture shot={shot} row={row} />
              <span className={`font-mono ${row.behind ? "text-text" : "text-faint"}`}>{row.number}</span>
              <span className="min-w-0">
                {since !== null && row.number > since && (
                  <span className="block text-[11px] text-lichen">while you were away</span>
                )}
                {row.name && <span className="block truncate font-medium">{row.name}</span>}
                <span className={`block truncate ${row.name ? "text-dim" : ""}`}>{row.sentence}</span>
                {!row.behind && <span className="block text-faint">undone, or another way taken since</span>}
              </span>
              <span className="whitespace-nowrap text-right text-dim">
                <span className="block">{row.author || "nobody any more"}</span>
                <time dateTime={row.created} className="block font-mono text-[11px] text-faint">
                  {when(row.created)}
                </time>
              </span>
            </button>
            {chosen === row.number && (
              <div className="space-y-2 px-1.5 pb-3 pl-[94px]">
                {row.number === head?.number && <p className="text-dim">This is what the shot shows now.</p>}
                <Since
                  key={`changes of ${row.number} ${head?.number}`}
                  shot={shot}
                  number={row.number}
                  head={head?.number ?? 0}
                  others={rows}
                />
                <div className="flex flex-wrap items-center gap-1.5">
                  {row.number !== head?.number && row.picture && (
                    <>
                      <Button onClick={() => beside(row, "split")}>Beside the present</Button>
                      <Button onClick={() => beside(row, "difference")}>Difference</Button>
                    </>
                  )}
                  {row.number !== head?.number && writable && (
                    <Button title="As a new revision: nothing is lost" onClick={() => restore(row)}>
                      Restore
                    </Button>
                  )}
                  {writable && (
                    <input
                      key={`name ${row.name}`}
                      aria-label={`Name of revision ${row.number}`}
                      placeholder="Name it"
                      defaultValue={row.name}
                      maxLength={120}
                      onBlur={(event) => name(row, event.target.value)}
                      onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
                      className="ml-auto h-6 w-48 rounded-sm border border-line bg-raised px-2 placeholder:text-faint"
                    />
                  )}
                </div>
              </div>
            )}
          </li>
        ))}
      </ul>
      {pages.hasNextPage && (
        <div className="pt-3 text-center">
          <Button disabled={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
            Earlier ones
          </Button>
        </div>
      )}
    </Modal>
  );
}

interface SinceProps {
  shot: number;
  number: number;
  head: number;
  /** Which it can be compared with, instead of the present one. */
  others: Row[];
}

/** What is different in another revision, the present one at first, in words. */
function Since({ shot, number, head, others }: SinceProps) {
  const [chosen, setChosen] = useState<number | null>(number === head ? null : head);
  const found = useQuery({
    queryKey: ["changes", shot, number, chosen],
    queryFn: () =>
      got(
        api.GET("/api/shots/{shot_id}/revisions/{number}/changes", {
          params: { path: { shot_id: shot, number }, query: chosen === head ? {} : { to: chosen! } },
        }),
      ),
    enabled: chosen !== null,
    staleTime: Infinity,
    gcTime: 30_000,
  });
  const options = others
    .filter((row) => row.number !== number)
    .map((row) => ({
      value: String(row.number),
      label: row.number === head ? "now" : `${row.number} ${row.name || row.sentence}`.slice(0, 50),
    }));
  const changes = found.data?.changes;
  return (
    <div>
      {options.length > 0 && (
        <p className="mb-1 flex items-center gap-2 text-dim">
          From it to
          <Choose
            label={`Compare revision ${number} with`}
            value={chosen === null ? "" : String(chosen)}
            options={chosen === null ? [{ value: "", label: "another one" }, ...options] : options}
            onChange={(next) => setChosen(next ? Number(next) : null)}
            className="max-w-72"
          />
        </p>
      )}
      {found.isError && <Message problem={problemOf(found.error)} />}
      {chosen !== null && found.isPending && <p className="text-faint">Comparing</p>}
      {changes?.length === 0 && <p className="text-dim">The same.</p>}
      {changes && changes.length > 0 && (
        <ul
          aria-label={`Changes since revision ${number}`}
          className="max-h-32 list-disc overflow-y-auto pl-4"
        >
          {changes.map((sentence, index) => (
            <li key={index} className="break-words">
              {sentence}
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}

function RevisionPicture({ shot, row }: { shot: number; row: Row }) {
  const frame = useTime((state) => state.frame);
  const planes = useQuery({
    queryKey: ["revision-picture", shot, row.number, row.picture, frame],
    queryFn: async () =>
      planesOf(
        await getForBytes(
          `/api/shots/${shot}/revisions/${row.number}/view/${row.picture}?scale=8&frame=${frame}`,
        ),
      ),
    enabled: row.picture !== null,
    staleTime: Infinity,
    gcTime: 60_000,
    retry: false,
  });
  if (!row.picture) return <span className="h-[42px] w-[76px] bg-well" />;
  return (
    <SmallPicture
      planes={planes.data}
      error={planes.error ? "" : undefined}
      label={`Revision ${row.number}`}
      className="h-[42px] w-[76px] bg-well"
    />
  );
}
