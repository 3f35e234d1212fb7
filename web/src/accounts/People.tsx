import { useInfiniteQuery, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Link } from "react-router";

import { api, got, problemOf } from "@/api/client";
import { useSession } from "@/api/queries";
import type { components } from "@/api/schema";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";
import { Modal } from "@/parts/Modal";
import { MoreButton } from "@/parts/MoreButton";
import { TextField } from "@/parts/TextField";
import { useAttempt } from "@/parts/useAttempt";
import { Waiting } from "@/parts/Waiting";
import { when } from "@/parts/when";
import { PageFrame } from "@/projects/PageFrame";
import { toClipboard } from "@/shot/useClipboard";

type Row = components["schemas"]["PersonRow"];
type Change = components["schemas"]["PersonChange"];

/** Everybody who has an account, as an administrator keeps them, and what was done about that. */
export function People() {
  const own = useSession().data?.person;
  const client = useQueryClient();
  const people = useQuery({
    queryKey: ["people"],
    queryFn: () => got(api.GET("/api/people")),
    enabled: own?.administrator === true,
  });
  const [adding, setAdding] = useState(false);
  const [given, setGiven] = useState<{ name: string; link: string } | null>(null);
  const refresh = () =>
    Promise.all([
      client.invalidateQueries({ queryKey: ["people"] }),
      client.invalidateQueries({ queryKey: ["deeds"] }),
    ]);
  const { problem, attempt } = useAttempt(refresh);
  const change = (row: Row, body: Change) =>
    attempt(async () => {
      await got(api.PUT("/api/people/{person_id}", { params: { path: { person_id: row.id } }, body }));
    });
  const link = (row: Row) =>
    attempt(async () => {
      const made = await got(
        api.POST("/api/people/{person_id}/link", { params: { path: { person_id: row.id } } }),
      );
      setGiven({ name: row.name, link: made.link! });
    });
  return (
    <PageFrame
      trail={
        <>
          <Link to="/projects" className="hover:text-text">
            Projects
          </Link>
          <span className="text-faint"> / </span>
          <span className="text-text">People</span>
        </>
      }
    >
      <div className="mx-auto max-w-4xl">
        <div className="mb-4 flex items-center justify-between">
          <h1 className="text-[16px] font-semibold">People</h1>
          {own?.administrator && <Button onClick={() => setAdding(true)}>Add a person</Button>}
        </div>
        {own && !own.administrator && (
          <p className="text-dim">Accounts are kept by the administrators of your house.</p>
        )}
        {people.isLoading && <Waiting text="Fetching people" />}
        {people.isError && <Message problem={problemOf(people.error)} />}
        {problem && (
          <div className="mb-3">
            <Message problem={problem} />
          </div>
        )}
        <ul className="divide-y divide-line border-y border-line">
          {people.data?.map((row) => (
            <li
              key={row.id}
              className="grid grid-cols-[1fr_200px_170px_28px] items-center gap-4 bg-panel px-3 py-2"
            >
              <span className="min-w-0">
                <span className={`block truncate text-[13px] ${row.active ? "" : "text-dim line-through"}`}>
                  {row.name}
                </span>
                <span className="block truncate text-[12px] text-dim">{row.username}</span>
              </span>
              <span className="text-[12px] text-dim">{stateOf(row)}</span>
              <span className="text-[12px] text-dim">
                {row.last_login ? `last in ${when(row.last_login)}` : "was never in"}
              </span>
              {row.id === own?.id ? (
                <span />
              ) : (
                <MoreButton
                  label={`What to do about ${row.name}`}
                  choices={[
                    { label: "New link, for another password", onSelect: () => void link(row) },
                    {
                      label: row.administrator ? "No administrator any more" : "Make administrator",
                      onSelect: () => void change(row, { administrator: !row.administrator }),
                    },
                    {
                      label: row.active ? "Turn off" : "Turn on",
                      danger: row.active,
                      onSelect: () => void change(row, { active: !row.active }),
                    },
                  ]}
                />
              )}
            </li>
          ))}
        </ul>
        {own?.administrator && <Deeds />}
      </div>
      {adding && (
        <AddPerson
          onClose={() => setAdding(false)}
          onAdded={async (name, made) => {
            setAdding(false);
            if (made) setGiven({ name, link: made });
            await refresh();
          }}
        />
      )}
      {given && <GivenLink {...given} onClose={() => setGiven(null)} />}
    </PageFrame>
  );
}

function stateOf(row: Row): string {
  if (!row.active) return "turned off";
  return [row.administrator && "administrator", row.invited && "has to choose a password"]
    .filter(Boolean)
    .join(", ");
}

interface AddProps {
  onClose: () => void;
  onAdded: (name: string, link: string | null) => Promise<void>;
}

function AddPerson({ onClose, onAdded }: AddProps) {
  const [username, setUsername] = useState("");
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [administrator, setAdministrator] = useState(false);
  const { problem, attempt } = useAttempt();
  const submit = (event: FormEvent) => {
    event.preventDefault();
    void attempt(async () => {
      const body = { username, name, administrator, password: password || null };
      const made = await got(api.POST("/api/people", { body }));
      await onAdded(name, made.link ?? null);
    });
  };
  return (
    <Modal title="Add a person" open onClose={onClose} width={380}>
      <form onSubmit={submit} className="space-y-3">
        <TextField
          label="Name to sign in with"
          autoComplete="off"
          required
          maxLength={150}
          value={username}
          onChange={(event) => setUsername(event.target.value)}
        />
        <TextField
          label="Name, as others see it"
          autoComplete="off"
          required
          maxLength={150}
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
        <TextField
          label="First password; without one they get a link"
          type="password"
          autoComplete="new-password"
          value={password}
          onChange={(event) => setPassword(event.target.value)}
        />
        <label className="flex items-center gap-2 text-[12px]">
          <input
            type="checkbox"
            checked={administrator}
            onChange={(event) => setAdministrator(event.target.checked)}
            className="accent-lichen"
          />
          Administrator: adds people and turns them off
        </label>
        {problem && <Message problem={problem} />}
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button main type="submit" disabled={!username.trim() || !name.trim()}>
            Add
          </Button>
        </div>
      </form>
    </Modal>
  );
}

function GivenLink({ name, link, onClose }: { name: string; link: string; onClose: () => void }) {
  const whole = `${window.location.origin}${link}`;
  const [copied, setCopied] = useState(false);
  return (
    <Modal
      title={`A link for ${name}`}
      about="By it they choose their password, once, within three days. It is shown here only; give it to nobody else."
      open
      onClose={onClose}
      width={480}
    >
      <div className="flex items-end gap-2">
        <div className="grow">
          <TextField label="Link" readOnly value={whole} className="font-mono !text-[12px]" />
        </div>
        <Button main className="h-7" onClick={() => void toClipboard(whole).then(() => setCopied(true))}>
          {copied ? "Copied" : "Copy"}
        </Button>
      </div>
    </Modal>
  );
}

/** What was done about people and their rights. */
function Deeds() {
  const pages = useInfiniteQuery({
    queryKey: ["deeds"],
    queryFn: ({ pageParam }) =>
      got(api.GET("/api/deeds", { params: { query: pageParam === null ? {} : { before: pageParam } } })),
    initialPageParam: null as number | null,
    getNextPageParam: (last) => (last.length === 50 ? last[last.length - 1]!.id : null),
  });
  const rows = pages.data?.pages.flat() ?? [];
  return (
    <section className="mt-8">
      <h2 className="mb-2 text-[13px] font-semibold">What was done</h2>
      {pages.isError && <Message problem={problemOf(pages.error)} />}
      {rows.length === 0 && !pages.isPending && <p className="text-[12px] text-dim">Nothing yet.</p>}
      <ul className="space-y-1 text-[12px]">
        {rows.map((row) => (
          <li key={row.id} className="grid grid-cols-[150px_1fr_130px] gap-4">
            <span className="font-mono text-dim">{when(row.at)}</span>
            <span className="min-w-0 break-words">
              <span className="text-dim">{row.who}</span> {row.sentence}
            </span>
            <span className="truncate text-right font-mono text-faint">{row.address}</span>
          </li>
        ))}
      </ul>
      {pages.hasNextPage && (
        <Button className="mt-3" onClick={() => void pages.fetchNextPage()}>
          Earlier ones
        </Button>
      )}
    </section>
  );
}
