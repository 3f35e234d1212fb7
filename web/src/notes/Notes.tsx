import { useInfiniteQuery, useQueryClient } from "@tanstack/react-query";
import { X } from "lucide-react";
import { useEffect, useRef, useState } from "react";

import { type Item, api, got, problemOf } from "@/api/client";
import { useGo } from "@/app/address";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";
import { MoreButton } from "@/parts/MoreButton";
import { NumberBox } from "@/parts/NumberBox";
import { Waiting } from "@/parts/Waiting";
import { useAttempt } from "@/parts/useAttempt";
import { when } from "@/parts/when";
import { useView } from "@/stage/viewState";
import { goTo, useTime } from "@/time/timeState";

import { Words } from "./Words";
import { type NewNote, type NoteRow, type Place, aboutOf, notesKey, useNoting, useOpenNotes } from "./notes";

interface Props {
  shot: number;
  items: Item[];
  item: string | null;
  writable: boolean;
  owner: boolean;
  /** Whether the shot has more than one frame. */
  moving: boolean;
}

/** What people have to say about the shot, beside the stage: written, answered, marked done. */
export function Notes({ shot, items, item, writable, owner, moving }: Props) {
  const { chosen, pinned, change } = useNoting();
  const open = useOpenNotes(shot);
  const [older, setOlder] = useState(false);
  const client = useQueryClient();
  const { problem, attempt } = useAttempt(() => client.invalidateQueries({ queryKey: notesKey(shot) }));
  const actions: NoteActions = {
    answer: (note, text) =>
      attempt(() =>
        got(
          api.POST("/api/shots/{shot_id}/notes/{note_id}/answers", {
            params: { path: { shot_id: shot, note_id: note } },
            body: { text },
          }),
        ),
      ),
    change: (note, to) =>
      attempt(() =>
        got(
          api.PUT("/api/shots/{shot_id}/notes/{note_id}", {
            params: { path: { shot_id: shot, note_id: note } },
            body: to,
          }),
        ),
      ),
    remove: (note) =>
      attempt(() =>
        got(
          api.DELETE("/api/shots/{shot_id}/notes/{note_id}", {
            params: { path: { shot_id: shot, note_id: note } },
          }),
        ),
      ),
  };
  const common = { items, writable, owner, moving, actions };
  const rows = open.data?.rows ?? [];
  return (
    <aside
      aria-label="Notes"
      onKeyDown={(event) => {
        // The first one gives up picking.
        if (event.key === "Escape" && !useView.getState().pick) change({ open: false });
      }}
      className="absolute inset-y-0 right-0 z-20 flex w-[320px] flex-col border-l border-line bg-panel text-[12px]"
    >
      <div className="flex h-9 shrink-0 items-center gap-2 border-b border-line px-3">
        <h2 className="text-[13px] font-semibold">Notes</h2>
        <span className="grow" />
        <Button
          lit={pinned}
          title="Mark the places of notes on the stage"
          onClick={() => change({ pinned: !pinned })}
        >
          On the stage
        </Button>
        <button
          type="button"
          aria-label="Close the notes"
          title="Close the notes (B)"
          onClick={() => change({ open: false })}
          className="text-dim hover:text-text"
        >
          <X size={16} />
        </button>
      </div>
      <div className="min-h-0 grow overflow-y-auto">
        <NewWords
          item={item}
          items={items}
          moving={moving}
          onNote={(note) =>
            attempt(async () => {
              const made = await got(
                api.POST("/api/shots/{shot_id}/notes", {
                  params: { path: { shot_id: shot } },
                  body: note,
                }),
              );
              change({ chosen: made.id });
            })
          }
        />
        {problem && (
          <div className="p-3">
            <Message problem={problem} />
          </div>
        )}
        {open.isError && (
          <div className="p-3">
            <Message problem={problemOf(open.error)} />
          </div>
        )}
        {open.isPending && <Waiting text="Fetching the notes" />}
        {open.data && rows.length === 0 && (
          <p className="p-3 text-dim">
            Nothing is open. A note is about the shot, a step, or a place in the picture; whoever sees the
            shot can leave one.
          </p>
        )}
        <ul aria-label="Open notes" className="divide-y divide-line border-b border-line">
          {rows.map((note) => (
            <NoteCard key={note.id} note={note} chosen={note.id === chosen} {...common} />
          ))}
        </ul>
        {(open.data?.done ?? 0) > 0 && (
          <div className="p-3">
            <Button quiet aria-expanded={older} onClick={() => setOlder(!older)}>
              {older ? "Hide what is done" : `Done: ${open.data!.done}`}
            </Button>
          </div>
        )}
        {older && <Done shot={shot} {...common} />}
      </div>
    </aside>
  );
}

interface NewWordsProps {
  item: string | null;
  items: Item[];
  moving: boolean;
  onNote: (note: NewNote) => Promise<boolean>;
}

/** A note begun: what it is about, and the words. */
function NewWords({ item, items, moving, onNote }: NewWordsProps) {
  const [about, setAbout] = useState<"shot" | "item">("shot");
  const { place, change: changeNoting } = useNoting();
  const setPlace = (place: Place | null) => changeNoting({ place });
  const frame = useTime((state) => state.frame);
  const { pick, change } = useView();
  // A place belongs to a picture: with another one in focus, the place of the first is still meant.
  const target: Omit<NewNote, "text"> = place ?? {
    item: about === "item" && item ? item : "",
    x: null,
    y: null,
    frame: about === "item" && moving ? frame : null,
  };
  const picking = pick?.label === PLACE;
  const shown = items.find((entry) => entry.name === item);
  return (
    <div className="space-y-2 border-b border-line p-3">
      <div role="group" aria-label="What the note is about" className="flex flex-wrap gap-1">
        <Button
          lit={!place && about === "shot"}
          onClick={() => {
            setPlace(null);
            setAbout("shot");
          }}
        >
          The shot
        </Button>
        {item && (
          <Button
            lit={!place && about === "item"}
            onClick={() => {
              setPlace(null);
              setAbout("item");
            }}
          >
            <span className="max-w-24 truncate">{item}</span>
          </Button>
        )}
        {item && !shown?.problem && (
          <Button
            lit={picking || place !== null}
            title="Click where it is in the picture"
            onClick={(event) => {
              const [, , width, height] = shown?.display ?? [0, 0, 0, 0];
              // By the keys there is no click in the picture: its middle, to be moved by the numbers.
              if (event.detail === 0) setPlace({ item, x: width! / 2, y: height! / 2, frame });
              else
                change({
                  pick: picking
                    ? null
                    : { label: PLACE, take: (x, y) => setPlace({ item, x: x + 0.5, y: y + 0.5, frame }) },
                });
            }}
          >
            A place…
          </Button>
        )}
        {place && (
          <span className="flex items-center gap-1 text-dim">
            at
            {(["x", "y"] as const).map((axis) => (
              <NumberBox
                key={axis}
                label={`Place of the note, ${axis}`}
                value={Math.floor(place[axis])}
                step={1}
                places={0}
                onChange={(next) => setPlace({ ...place, [axis]: Math.floor(next) + 0.5 })}
              />
            ))}
          </span>
        )}
      </div>
      <Words
        label="New note"
        placeholder="Say what you see"
        done="Leave the note"
        onWords={async (text) => {
          const left = await onNote({ ...target, text });
          if (left) setPlace(null);
          return left;
        }}
      />
    </div>
  );
}

const PLACE = "the place that the note is about";

interface NoteActions {
  answer: (note: number, text: string) => Promise<boolean>;
  change: (note: number, to: { text?: string; done?: boolean }) => Promise<boolean>;
  remove: (note: number) => Promise<boolean>;
}

interface Common {
  items: Item[];
  writable: boolean;
  owner: boolean;
  moving: boolean;
  actions: NoteActions;
}

/** Notes marked done, a page at a time. */
function Done({ shot, ...common }: Common & { shot: number }) {
  const pages = useInfiniteQuery({
    queryKey: [...notesKey(shot), "done"],
    queryFn: ({ pageParam }) =>
      got(
        api.GET("/api/shots/{shot_id}/notes", {
          params: {
            path: { shot_id: shot },
            query: { done: true, ...(pageParam === null ? {} : { before: pageParam }) },
          },
        }),
      ),
    initialPageParam: null as number | null,
    getNextPageParam: (last) => (last.more ? last.rows[last.rows.length - 1]!.id : null),
  });
  const rows = pages.data?.pages.flatMap((page) => page.rows) ?? [];
  return (
    <>
      {pages.isPending && <Waiting text="Fetching what is done" />}
      {pages.isError && <Message problem={problemOf(pages.error)} />}
      <ul aria-label="Notes that are done" className="divide-y divide-line border-y border-line">
        {rows.map((note) => (
          <NoteCard key={note.id} note={note} chosen={false} {...common} />
        ))}
      </ul>
      {pages.hasNextPage && (
        <div className="p-3 text-center">
          <Button disabled={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
            Earlier ones
          </Button>
        </div>
      )}
    </>
  );
}

function NoteCard({
  note,
  chosen,
  items,
  writable,
  owner,
  moving,
  actions,
}: Common & { note: NoteRow; chosen: boolean }) {
  const box = useRef<HTMLLIElement>(null);
  const [answering, setAnswering] = useState(false);
  const [changing, setChanging] = useState<number | null>(null);
  const go = useGo();
  const noting = useNoting((state) => state.change);
  useEffect(() => {
    if (chosen) box.current?.scrollIntoView({ block: "nearest" });
  }, [chosen]);
  const there = items.some((entry) => entry.name === note.item);
  const show = () => {
    noting({ chosen: note.id });
    if (there) go({ item: note.item });
    if (moving && note.frame !== null) goTo(note.frame);
    const view = useView.getState();
    if (note.x !== null && note.y !== null && view.zoom > 0) view.change({ centre: [note.x, note.y] });
  };
  const may = note.mine || writable;
  const more = (entry: { id: number; mine: boolean }) => [
    ...(entry.mine ? [{ label: "Change the words", onSelect: () => setChanging(entry.id) }] : []),
    ...(entry.mine || owner
      ? [
          {
            label: entry.id === note.id && note.answers.length ? "Take away, with its answers" : "Take away",
            danger: true,
            onSelect: () => void actions.remove(entry.id),
          },
        ]
      : []),
  ];
  const said = (entry: NoteRow["answers"][number], what: string) => (
    <>
      <div className="flex items-baseline gap-2">
        <span className="min-w-0 truncate font-medium">{entry.author || "nobody any more"}</span>
        <time dateTime={entry.created} className="shrink-0 text-[11px] text-faint">
          {when(entry.created)}
          {entry.changed && ", changed"}
        </time>
        <span className="grow" />
        {more(entry).length > 0 && <MoreButton label={`What to do with ${what}`} choices={more(entry)} />}
      </div>
      {changing === entry.id ? (
        <Words
          label={`Words of ${what}`}
          done="Change"
          start={entry.text}
          onGiveUp={() => setChanging(null)}
          onWords={async (text) => {
            const changed = await actions.change(entry.id, { text });
            if (changed) setChanging(null);
            return changed;
          }}
        />
      ) : (
        <p className="whitespace-pre-wrap break-words">{entry.text}</p>
      )}
    </>
  );
  return (
    <li
      ref={box}
      data-note={note.id}
      className={`space-y-1.5 px-3 py-2.5 ${chosen ? "shadow-[inset_2px_0_0_var(--lichen)]" : ""}`}
    >
      <button
        type="button"
        onClick={show}
        title={there || !note.item ? "Show what it is about" : `There is no ${note.item} any more`}
        className={`max-w-full truncate font-mono text-[11px] ${there || !note.item ? "text-lichen" : "text-faint line-through"}`}
      >
        {aboutOf(note, moving)}
      </button>
      {said(note, "the note")}
      {note.answers.length > 0 && (
        <ul aria-label="Answers" className="space-y-1.5 border-l border-line pl-3">
          {note.answers.map((answer) => (
            <li key={answer.id}>{said(answer, "the answer")}</li>
          ))}
        </ul>
      )}
      {note.done && (
        <p className="text-[11px] text-lichen">
          done, says {note.done_by || "somebody"}, {when(note.done)}
        </p>
      )}
      {answering ? (
        <Words
          label="Answer"
          done="Answer"
          onGiveUp={() => setAnswering(false)}
          onWords={async (text) => {
            const answered = await actions.answer(note.id, text);
            if (answered) setAnswering(false);
            return answered;
          }}
        />
      ) : (
        <div className="flex gap-1.5">
          <Button onClick={() => setAnswering(true)}>Answer</Button>
          {may && (
            <Button onClick={() => void actions.change(note.id, { done: !note.done })}>
              {note.done ? "Open again" : "Done"}
            </Button>
          )}
        </div>
      )}
    </li>
  );
}
