import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { useShallow } from "zustand/react/shallow";

import { You } from "@/accounts/You";
import { type ShotWhole, api } from "@/api/client";
import { toggleTheme } from "@/app/theme";
import { useHelp } from "@/help/helpState";
import { useHints } from "@/help/hints";
import { useNoting, useOpenNotes } from "@/notes/notes";
import { Button } from "@/parts/Button";
import { Menu } from "@/parts/Menu";
import { Mark } from "@/parts/Mark";
import { Tip } from "@/parts/Tip";

import { type Overridden, useDraft } from "./draft";

interface Props {
  shot: ShotWhole;
  bench: string;
  onBench: (bench: string) => void;
  onHistory: () => void;
  onChains: () => void;
  /** What others did while one was away. */
  away: ShotWhole["away"];
}

/** The benches by their names in addresses, in order: Shift and their number go to them. */
export const BENCHES = [
  ["mattes", "Mattes"],
  ["passes", "Passes"],
  ["space", "Space"],
  ["edges", "Edges"],
  ["packing", "Packing"],
  ["deliver", "Deliver"],
] as const;

/** The notes, and how many are open. */
function NotesButton({ shot }: { shot: number }) {
  const { open, change } = useNoting();
  const many = useOpenNotes(shot).data?.rows.length ?? 0;
  return (
    <Button lit={open} title="Notes of people on this shot (B)" onClick={() => change({ open: !open })}>
      Notes{many > 0 && <span className="font-mono text-lichen">{many}</span>}
    </Button>
  );
}

/** What the bar tells: not the recipe, which changes with every step of a drag. */
const stateOf = (draft: ReturnType<typeof useDraft.getState>) => ({
  head: draft.head,
  saving: draft.saving,
  unsaved: draft.unsaved,
  problem: draft.problem,
  canUndo: draft.canUndo,
  canRedo: draft.canRedo,
  restored: draft.restored,
  merged: draft.merged,
  heard: draft.heard,
  overridden: draft.overridden,
  conflict: draft.conflict,
});

/** A word of what happened, on one line: the first to be cut where there is no room. */
const WORD = "min-w-0 shrink-[9] truncate text-lichen";

function overriddenTitle({ revision, places }: Overridden): string {
  const told = places.map(({ where, mine, theirs }) => `${where}: yours ${mine}, now ${theirs}`);
  return `Revision ${revision.number} by ${revision.author}. ${told.join("; ")}`;
}

/** Where we are, the benches, the revision, undo and redo. */
export function TopBar({ shot, bench, onBench, onHistory, onChains, away }: Props) {
  const { head, saving, unsaved, problem, canUndo, canRedo, restored, merged, heard, overridden, conflict } =
    useDraft(useShallow(stateOf));
  const { undo, redo, settle, dismiss, setAside } = useDraft.getState();
  const navigate = useNavigate();
  const show = useHelp((state) => state.show);
  const hints = useHints();
  const [own, setOwn] = useState(false);
  const [toldOf, setToldOf] = useState(false);
  const client = useQueryClient();
  const writable = shot.role !== "viewer";
  // What came last is told, also where something that came before it was not read yet.
  const newest = merged && heard ? (heard.number > merged.number ? heard : merged) : (merged ?? heard);
  const state = problem ? "not saved" : conflict ? "" : saving || unsaved ? "saving" : "";
  return (
    <header className="flex h-10 shrink-0 items-center gap-4 border-b border-line bg-panel px-3 text-[12px]">
      <Mark />
      <nav aria-label="Where" className="min-w-0 truncate">
        <Link
          to={`/projects/${shot.project}`}
          title="All shots of this project"
          className="text-dim hover:text-text"
        >
          {shot.project_name}
        </Link>
        <span className="text-faint"> / </span>
        <h1 className="inline font-medium">{shot.name}</h1>
      </nav>
      <nav aria-label="Benches" className="mx-auto flex h-full gap-6">
        {BENCHES.map(([key, label], index) => (
          <button
            key={key}
            type="button"
            aria-current={bench === key ? "page" : undefined}
            title={`${label} (Shift ${index + 1})`}
            onClick={() => onBench(key)}
            className={`h-full border-b ${bench === key ? "border-lichen text-text" : "border-transparent text-dim hover:text-text"}`}
          >
            {label}
          </button>
        ))}
      </nav>
      {state && (
        <span role="status" className={problem ? "text-ember" : "text-faint"}>
          {state}
        </span>
      )}
      {restored && (
        <button
          type="button"
          onClick={dismiss}
          title="Unsaved work found and brought back: it was kept in this browser when the page was left; undo takes it back"
          className={WORD}
        >
          unsaved work found and brought back
        </button>
      )}
      {away && !toldOf && (
        <button
          type="button"
          onClick={() => {
            setToldOf(true);
            onHistory();
          }}
          title={`By ${away.authors.join(", ")}: see the history`}
          className={WORD}
        >
          {away.revisions === 1 ? "a change" : `${away.revisions} changes`} by {away.authors[0]}
          {away.authors.length > 1 && " and others"} while you were away
        </button>
      )}
      {overridden && (
        <button
          type="button"
          onClick={dismiss}
          title={overriddenTitle(overridden)}
          className={WORD.replace("text-lichen", "text-clay")}
        >
          {overridden.places[0]!.where}
          {overridden.places.length > 1 && ` and ${overridden.places.length - 1} more`} changed by{" "}
          {overridden.revision.author}
        </button>
      )}
      {newest && newest.number !== overridden?.revision.number && !problem && (
        <button
          type="button"
          onClick={dismiss}
          title={`Revision ${newest.number} by ${newest.author}: ${newest.sentence}; ${
            newest === merged
              ? "it was put together with your change, since they touch nothing in common"
              : "nothing of yours was waiting, so it is shown"
          }`}
          className={WORD}
        >
          revision {newest.number} by {newest.author} {newest === merged ? "was merged in" : "came in"}
        </button>
      )}
      {conflict?.aside && <Button onClick={() => setAside(false)}>Two versions: choose</Button>}
      {problem && (
        <Button onClick={settle} title={`${problem.message}; ${problem.remedy}`}>
          Try again
        </Button>
      )}
      <button
        type="button"
        onClick={onHistory}
        className="shrink-0 whitespace-nowrap font-mono text-dim hover:text-text"
        title={`${head?.sentence ?? ""}: see the history`}
        data-testid="revision"
      >
        rev {head?.number}
      </button>
      {writable ? (
        <>
          <Tip
            text={unsaved ? "Undo the last change" : canUndo ? `Undo: ${head?.sentence}` : "Nothing to undo"}
            keys="Ctrl Z"
          >
            <Button onClick={() => undo()} disabled={!canUndo}>
              Undo
            </Button>
          </Tip>
          <Tip text="Redo" keys="Ctrl Shift Z">
            <Button onClick={redo} disabled={!canRedo}>
              Redo
            </Button>
          </Tip>
        </>
      ) : (
        <span className="text-clay">view only</span>
      )}
      <NotesButton shot={shot.id} />
      <Button title="Jobs, keys and steps, searched (?)" onClick={() => show()}>
        Help ?
      </Button>
      <Menu
        choices={[
          { label: "History", onSelect: onHistory },
          { label: "Kept chains", onSelect: onChains },
          {
            label: "Download the recipe",
            onSelect: () => window.location.assign(`/api/shots/${shot.id}/recipe`),
          },
          { label: hints.on ? "Hide the hints" : "Show hints", onSelect: () => hints.set(!hints.on) },
          { label: "Bright or dark", onSelect: toggleTheme },
          { label: "Your name and password", onSelect: () => setOwn(true) },
          {
            label: "Sign out",
            onSelect: () =>
              void api.DELETE("/api/session").then(() => {
                client.clear();
                void navigate("/sign-in");
              }),
          },
        ]}
      >
        <Button>More</Button>
      </Menu>
      {own && <You onClose={() => setOwn(false)} />}
    </header>
  );
}
