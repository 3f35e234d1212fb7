import { useQuery } from "@tanstack/react-query";
import { type DragEvent, useEffect, useMemo, useRef, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";

import { type Item, type OperationRow, type Problem, type ShotWhole, problemOf } from "@/api/client";
import { operationsQuery, useItems, useOperations, useSession } from "@/api/queries";
import { queries } from "@/api/queryClient";
import {
  changeStep,
  duplicate,
  findStep,
  firstInput,
  freeName,
  insertAfter,
  itemsOf,
  move,
  neighbourOf,
  type Recipe,
  remove,
  sourcesOf,
  stepsOf,
  usersOf,
} from "@/api/recipe";
import { useGo } from "@/app/address";
import type { Actions } from "@/lineage/actions";
import { newStep } from "@/lineage/feeding";
import { Finder } from "@/lineage/Finder";
import { useHelp } from "@/help/helpState";
import { Lineage } from "@/lineage/Lineage";
import { Notes } from "@/notes/Notes";
import { useNoting } from "@/notes/notes";
import { Button } from "@/parts/Button";
import { isSecondClick } from "@/parts/clicks";
import { Message } from "@/parts/Message";
import { Waiting } from "@/parts/Waiting";
import { useCalm } from "@/parts/useCalm";
import { useTools } from "@/stage/tools";
import { useView } from "@/stage/viewState";
import { lookedAt } from "@/time/keys";
import { useTime } from "@/time/timeState";
import { Timeline } from "@/time/Timeline";
import { timeKeys, useShotTime } from "@/time/useShotTime";
import { Whole } from "@/time/whole";

import { BenchArea } from "./BenchArea";
import { Conflict } from "./Conflict";
import { NoteDialog, RemoveDialog, RenameDialog } from "./dialogs";
import { useDraft } from "./draft";
import { History } from "./History";
import { PasteDialog } from "./PasteDialog";
import { Chains } from "./Chains";
import { type ChainRow, type Pasting, putToUse, useChains, usePut } from "./chains";
import { copied, fedFrom, lacking } from "./copying";
import { openedAt, shotNow } from "./early";
import { KeepChain } from "./KeepChain";
import { toClipboard, useClipboard } from "./useClipboard";
import { Leaving } from "./Leaving";
import { useMarks } from "./marks";
import { UndoForeign } from "./UndoForeign";
import { renameItem } from "./renaming";
import { useArrivals, useImport } from "./sources";
import { SequenceDialog } from "./SequenceDialog";
import { TakeRecipe } from "./TakeRecipe";
import { BENCHES, TopBar } from "./TopBar";
import { visitFirstSetting } from "./regions";
import { useGivingUp } from "./useGivingUp";
import { useKeys } from "./useKeys";
import { useNews } from "./useNews";
import { useTouchKey } from "./useTouchKey";

const GONE: Problem = {
  code: "not_found",
  message: "it was deleted, or you work in its project no more",
  where: "this shot",
  remedy:
    "ask an owner of the project: a deleted shot can be recovered for 30 days, and what you had not saved is kept in this browser",
};

/** One shot: wall, stage, bench and lineage. */
export function ShotPage() {
  const shot = Number(useParams().shot);
  const answer = useQuery({
    queryKey: ["shot", shot],
    queryFn: async () => {
      const { stamp } = useDraft.getState();
      return { whole: await shotNow(shot), stamp };
    },
    staleTime: 0,
    gcTime: 0,
    refetchOnWindowFocus: false,
  });
  const open = useDraft((state) => state.shot === shot && state.head !== null);
  const person = useSession().data?.person?.username ?? null;
  const told = answer.data;
  const marks = told?.whole.marks;
  const marked = useRef(0);
  useEffect(() => {
    // Once: what is asked for again later knows nothing of the marks that are on their way.
    if (!marks || marked.current === shot) return;
    marked.current = shot;
    useMarks.getState().open(shot, marks);
  }, [shot, marks]);
  useEffect(() => {
    if (!told) return;
    const draft = useDraft.getState();
    const { head, role } = told.whole;
    if (draft.shot === shot && draft.head) draft.hear(head, told.stamp);
    else {
      // Before anything asks for another frame.
      useTime.getState().reset(openedAt(told.whole));
      void draft.open(shot, head, role === "viewer" ? null : person);
    }
  }, [shot, told, person]);
  useEffect(() => {
    useView.getState().reset();
    useTools.getState().change({ tool: "none", ring: false });
    useNoting.getState().change({ chosen: null, place: null });
  }, [shot]);
  useEffect(() => {
    const warn = (event: BeforeUnloadEvent) => {
      if (useDraft.getState().unsaved) event.preventDefault();
    };
    window.addEventListener("beforeunload", warn);
    return () => window.removeEventListener("beforeunload", warn);
  }, []);

  // Gone while it was open: nothing that is done to it would be kept.
  if (told && problemOf(answer.error).code === "not_found")
    return (
      <main className="mx-auto max-w-md space-y-3 p-10">
        <Message problem={GONE} />
        <div className="flex items-center gap-4 text-[12px]">
          <Button onClick={() => void answer.refetch()}>Look again</Button>
          <Link to={`/projects/${told.whole.project}`} className="text-dim hover:text-text">
            To the project
          </Link>
        </div>
      </main>
    );
  if (answer.isError && !told)
    return (
      <main className="mx-auto max-w-md p-10">
        <Message problem={problemOf(answer.error)} />
      </main>
    );
  if (!told || !open) return <Waiting text="Opening the shot" />;
  return <OpenShot key={shot} whole={told.whole} />;
}

type Asking = { kind: "rename" | "remove" | "note" | "keep"; name: string } | null;

const NO_CHAINS: ChainRow[] = [];
const NO_OPERATIONS: OperationRow[] = [];
const NO_ITEMS: Item[] = [];

/** The item in focus: where what was in focus is gone, such as by undo, what it was made from comes into focus. */
function useFocus(recipe: Recipe, asked: string | null): string | null {
  const [madeFrom, setMadeFrom] = useState<string>();
  const names = itemsOf(recipe);
  const item =
    [asked, madeFrom].find((name) => name && names.includes(name)) ??
    stepsOf(recipe).at(-1)?.name ??
    names[0] ??
    null;
  const first = item && item === asked ? firstInput(findStep(recipe, item))?.split(".")[0] : madeFrom;
  if (first !== madeFrom) setMadeFrom(first);
  return item;
}

function OpenShot({ whole }: { whole: ShotWhole }) {
  const edit = useDraft((state) => state.edit);
  const editKeys = useDraft((state) => state.editKeys);
  const dragged = useDraft((state) => state.moving);
  const live = useDraft((state) => state.recipe);
  // What is dragged is followed by the bench and its stage; all around them sees it at rest.
  const raw = useCalm(live, dragged);
  const time = useShotTime(whole, raw);
  // Everything below sees what moves as it is at the frame that is looked at.
  const recipe = useMemo(() => lookedAt(raw, time.frame), [raw, time.frame]);
  const followed = useMemo(() => lookedAt(live, time.frame), [live, time.frame]);
  const [params] = useSearchParams();
  const go = useGo();
  const [finding, setFinding] = useState(false);
  const [remembering, setRemembering] = useState(false);
  // Told once, of the time before the page was opened.
  const [away] = useState(whole.away);
  const [asking, setAsking] = useState<Asking>(null);
  const help = () => useHelp.getState().show();
  const noting = useNoting((state) => state.open);
  const [dropping, setDropping] = useState(false);
  const importFiles = useImport();
  const operations = useOperations().data ?? NO_OPERATIONS;
  const items = useItems(whole.id, recipe).data ?? NO_ITEMS;
  const writable = whole.role !== "viewer";
  const item = useFocus(recipe, params.get("item"));
  const bench = params.get("bench") ?? "mattes";

  const choose = (name: string) => name !== item && go({ item: name });
  // What puts something where nothing was does so once, however often it is clicked.
  const put = (change: (before: Recipe) => [Recipe, string]) => {
    if (isSecondClick(window.event)) return;
    edit((before) => {
      const [next, name] = change(before);
      go({ item: name });
      return next;
    });
  };
  const alone = useView((state) => (state.alone?.item === item ? state.alone.channels : null));

  // What was added is set next: the focus goes to its first setting.
  const added = useRef<{ name: string; held: Element | null } | null>(null);
  useEffect(() => {
    const done = added.current;
    if (!item || done?.name !== item) return;
    added.current = null;
    const timer = setTimeout(() => visitFirstSetting(done.held), 50);
    return () => clearTimeout(timer);
  }, [item]);
  const add = (operation: OperationRow, dragged?: string, known = operations) =>
    put((before) => {
      const step = newStep(operation, { recipe: before, items, item, alone, operations: known }, dragged);
      added.current = { name: step.name, held: document.activeElement };
      return [insertAfter(before, step, item && findStep(before, item) ? item : null), step.name];
    });
  const cross = (a: string, b: string) =>
    put((before) => {
      const step = { name: freeName(before, "cross"), op: "cross", in: { a, b } };
      return [insertAfter(before, step, null), step.name];
    });
  // Who is quicker than the catalogue is not left without an answer: it is done as soon as that is there.
  const addNamed = (op: string, dragged?: string) =>
    void queries.ensureQueryData(operationsQuery).then(
      (known) => {
        const operation = known.find((row) => row.op === op);
        if (operation) add(operation, dragged, known);
      },
      // It is asked for again by the page, which tells that the server is away.
      () => undefined,
    );
  const copyChannel = (dragged?: string) => addNamed("copy_channel", dragged);
  const turnRound = (name: string | null) => {
    if (!name) return;
    put((before) => {
      const step = findStep(before, name);
      if (step?.op === "invert" && usersOf(before, name).length === 0) {
        const input = firstInput(step)!;
        return [remove(before, name, true), input.split(".")[0]!];
      }
      const from = alone?.length === 1 ? `${name}.${alone[0]}` : name;
      const turned = { name: freeName(before, `${name}_turned`), op: "invert", in: { from } };
      return [insertAfter(before, turned, name), turned.name];
    });
  };
  const toggle = (name: string | null) =>
    name &&
    edit((before) =>
      changeStep(before, name, ({ on, ...step }) => (on === false ? step : { ...step, on: false })),
    );
  const drop = (name: string, bridge: boolean) => {
    setAsking(null);
    const next = neighbourOf(recipe, name);
    edit((before) => remove(before, name, bridge));
    if (name === item && next) go({ item: next });
  };
  // Steps picked together are copied and kept together.
  const [picked, setPicked] = useState<string[]>([]);
  const together = (name: string) =>
    picked.includes(name) ? picked.filter((each) => itemsOf(recipe).includes(each)) : [name];
  const actions: Actions = {
    rename: (name) => setAsking({ kind: "rename", name }),
    keep: (name) => setAsking({ kind: "keep", name }),
    note: (name) => setAsking({ kind: "note", name }),
    remove: (name) =>
      usersOf(recipe, name).length ? setAsking({ kind: "remove", name }) : drop(name, false),
    duplicate: (name) => put((before) => duplicate(before, name)),
    copy: (name, needed) => {
      const text = copied(raw, together(name), needed);
      if (text) void toClipboard(text);
    },
    toggle,
    turnRound,
    move: (name, to) => edit((before) => move(before, name, to)),
  };
  const [pasting, setPasting] = useState<Pasting | null>(null);
  const kept = useChains(whole.project).data ?? NO_CHAINS;
  const [chains, setChains] = useState(false);
  const paste = (wanted: Pasting) => {
    setPasting(null);
    editKeys((before) => {
      const behind = item && findStep(before, item) ? item : null;
      const [next, name, put] = putToUse(before, wanted, behind);
      if (put) usePut.getState().change(put);
      go({ item: name });
      return next;
    });
  };
  // What the steps lack here is asked for first; of a chain, all that it is fed from.
  const take = (wanted: Pasting) => {
    const asked = wanted.chain ? fedFrom(wanted.steps) : lacking(raw, wanted.steps);
    if (asked.length) setPasting(wanted);
    else paste(wanted);
  };
  useClipboard({
    recipe: raw,
    steps: item ? together(item) : [],
    writable,
    paste: (steps) => take({ steps }),
  });
  useGivingUp();
  useKeys({
    recipe,
    items,
    item,
    writable,
    find: () => writable && setFinding(true),
    help,
    turnRound: () => turnRound(item),
    toggle: () => toggle(item),
    copy: () => copyChannel(),
    time: timeKeys(time.all, item, writable),
    bench: (index) => {
      const wanted = BENCHES[index];
      if (wanted) go({ bench: wanted[0] });
      return wanted !== undefined;
    },
    show: (address) => choose(address.split(".")[0]!),
  });

  useNews(whole.id);
  useArrivals();
  useTouchKey(writable && bench === "mattes");

  const common = { shot: whole.id, recipe, items, item, writable, onPut: put };
  const files = (event: DragEvent) => event.dataTransfer.types.includes("Files");
  return (
    <Whole.Provider value={time.all}>
      <div
        className="relative flex h-full min-w-[960px] flex-col"
        onDragEnter={(event) => writable && files(event) && setDropping(true)}
        onDragOver={(event) => files(event) && event.preventDefault()}
        onDragLeave={(event) => !event.relatedTarget && setDropping(false)}
        onDrop={(event) => {
          setDropping(false);
          if (!files(event)) return;
          event.preventDefault();
          // On a source, or its panel, they are meant for it.
          const on = (event.target as Element).closest("[data-cell], [data-source]");
          const name = on?.getAttribute("data-source") ?? on?.getAttribute("data-cell");
          const into = name ? sourcesOf(recipe)[name]?.files : undefined;
          if (writable) void importFiles([...event.dataTransfer.files], into);
        }}
      >
        <TopBar
          shot={whole}
          bench={bench}
          onBench={(next) => go({ bench: next })}
          onHistory={() => setRemembering(true)}
          onChains={() => setChains(true)}
          away={away}
        />
        <main className="relative flex min-h-0 grow">
          <BenchArea
            {...common}
            followed={followed}
            project={whole.project}
            bench={bench}
            operations={operations}
            onTurnRound={() => turnRound(item)}
            onChoose={choose}
            onCross={cross}
          />
          {noting && (
            <Notes
              shot={whole.id}
              items={items}
              item={item}
              writable={writable}
              owner={whole.role === "owner"}
              moving={time.all !== null}
            />
          )}
        </main>
        {time.all && (
          <Timeline
            whole={time.all}
            bars={time.bars}
            item={item}
            writable={writable}
            own={time.own !== null}
            onRange={time.setRange}
          />
        )}
        <Lineage
          shot={whole.id}
          recipe={recipe}
          items={items}
          item={item}
          writable={writable}
          actions={actions}
          picked={picked}
          onPick={(name) => {
            // The one in focus is of the party, and so is the one that is picked.
            const before = picked.length || !item || !findStep(recipe, item) ? picked : [item];
            const next = before.includes(name) ? before.filter((each) => each !== name) : [...before, name];
            setPicked(next.length > 1 ? next : []);
            if (next.length) choose(next.at(-1)!);
          }}
          onChoose={(name) => {
            setPicked([]);
            choose(name);
          }}
          onAdd={() => setFinding(true)}
          onCopyChannel={copyChannel}
          onDropChannel={(address) => addNamed("stretch", address)}
        />
        <Finder
          open={finding}
          operations={operations}
          chains={kept}
          after={item}
          onClose={() => setFinding(false)}
          onChain={(chain) => {
            setFinding(false);
            take({ steps: chain.steps, chain });
          }}
          onTake={(operation) => {
            setFinding(false);
            add(operation);
          }}
        />
        {pasting && (
          <PasteDialog
            recipe={raw}
            items={items}
            item={item}
            steps={pasting.steps}
            chain={pasting.chain?.name}
            onPaste={(instead) => paste({ ...pasting, instead })}
            onClose={() => setPasting(null)}
          />
        )}
        {remembering && (
          <History
            shot={whole.id}
            item={item}
            writable={whole.role !== "viewer"}
            since={away?.since ?? null}
            onClose={() => setRemembering(false)}
          />
        )}
        <Conflict />
        <UndoForeign />
        <TakeRecipe />
        <SequenceDialog />
        <Leaving />
        {asking?.kind === "rename" && (
          <RenameDialog
            recipe={recipe}
            name={asking.name}
            onClose={() => setAsking(null)}
            onRename={(to) => {
              setAsking(null);
              renameItem(asking.name, to);
              if (asking.name === item) go({ item: to });
            }}
          />
        )}
        {asking?.kind === "keep" && (
          <KeepChain
            project={whole.project}
            recipe={raw}
            names={together(asking.name)}
            operations={operations}
            onClose={() => setAsking(null)}
          />
        )}
        {chains && (
          <Chains
            project={whole.project}
            writable={writable}
            onUse={(chain) => {
              setChains(false);
              take({ steps: chain.steps, chain });
            }}
            onClose={() => setChains(false)}
          />
        )}
        {asking?.kind === "note" && (
          <NoteDialog
            name={asking.name}
            note={findStep(recipe, asking.name)?.note ?? ""}
            onClose={() => setAsking(null)}
            onNote={(note) => {
              setAsking(null);
              edit((before) =>
                changeStep(before, asking.name, ({ note: _, ...step }) => (note ? { ...step, note } : step)),
              );
            }}
          />
        )}
        {asking?.kind === "remove" && (
          <RemoveDialog
            recipe={recipe}
            name={asking.name}
            onClose={() => setAsking(null)}
            onRemove={(bridge) => drop(asking.name, bridge)}
          />
        )}
        {dropping && (
          <div className="pointer-events-none absolute inset-0 z-30 flex items-center justify-center border-2 border-lichen bg-black/60">
            <p className="rounded-sm bg-panel px-4 py-2 text-[14px]">
              Drop pictures to add them to this shot, or a recipe to take it
            </p>
          </div>
        )}
      </div>
    </Whole.Provider>
  );
}
