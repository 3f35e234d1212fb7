import { type QueryClient, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { create } from "zustand";

import {
  ApiError,
  type Problem,
  type ShotWhole,
  type SourceRow,
  api,
  csrf,
  got,
  problemOf,
} from "@/api/client";
import { sourcesQuery } from "@/api/queries";
import { freeName, type Recipe, type SourceSpec, sourcesOf } from "@/api/recipe";
import { useView } from "@/stage/viewState";
import { goTo } from "@/time/timeState";

import { useDraft } from "./draft";
import { isManifest, mayBeRecipe, recipeIn, useDropped } from "./recipes";
import { MANY, type Sequence, asFrames, grouped, newestOf, numberIn, useAsked } from "./sequences";

const PENDING = ["waiting", "reading"];

/** Everything imported into the open shot; asked again while something is being unpacked. */
export function useDraftSources(): SourceRow[] {
  const shot = useDraft((state) => state.shot);
  const answer = useQuery({
    ...sourcesQuery(shot),
    refetchInterval: (query) => (query.state.data?.some(comes) ? 500 : false),
  });
  return answer.data ?? NONE;
}

/** Whether something of it is still to be unpacked; of a sequence that never got a frame there is nothing. */
export const comes = (row: SourceRow) => PENDING.includes(row.state) && !isEmpty(row);
export const isEmpty = (row: SourceRow) => row.frames?.count === 0 && row.done === 0;

const NONE: SourceRow[] = [];

/** Once a source can be read that could not before, whatever was refused for it is asked for again. */
export function useArrivals(): void {
  const client = useQueryClient();
  const rows = useDraftSources();
  const shot = useDraft((state) => state.shot);
  const before = useRef<Map<number, string>>(new Map());
  // Who comes back has missed what was told meanwhile.
  useEffect(() => {
    return () => {
      void client.invalidateQueries({ queryKey: ["sources", shot], refetchType: "none" });
    };
  }, [client, shot]);
  useEffect(() => {
    const arrived = rows.some((row) => {
      const state = before.current.get(row.id);
      return state !== undefined && state !== readiness(row) && (row.state === "ready" || row.frames);
    });
    before.current = new Map(rows.map((row) => [row.id, readiness(row)]));
    if (!arrived) return;
    void client.invalidateQueries({ queryKey: ["items", useDraft.getState().shot] });
    void client.refetchQueries({ predicate: (query) => query.state.status === "error" });
    useView.getState().change({ arrivals: useView.getState().arrivals + 1 });
  }, [rows, client]);
}

const readiness = (row: SourceRow) => (row.frames ? `${row.state} ${row.frames.ready}` : row.state);

export interface Upload {
  key: number;
  name: string;
  /** 0 to 1 of the bytes sent. */
  sent: number;
  problem: Problem | null;
  /** What is worth telling about channel files that were put together. */
  told: string[];
  /** Once it is kept: the source that it became. */
  source: number | null;
}

interface Uploads {
  rows: Upload[];
  put: (row: Upload) => void;
  drop: (key: number) => void;
}

/** Files on their way to the server. */
export const useUploads = create<Uploads>((set) => ({
  rows: [],
  put: (row) => set((state) => ({ rows: [...state.rows.filter((other) => other.key !== row.key), row] })),
  drop: (key) => set((state) => ({ rows: state.rows.filter((row) => row.key !== key) })),
}));

let next = 1;

/** Whether it may come, and has room, is known before it is sent. */
async function ticketFor(shot: number, bytes: number): Promise<string> {
  const answer = await got(
    api.POST("/api/shots/{shot_id}/upload-tickets", {
      params: { path: { shot_id: shot } },
      body: { bytes },
    }),
  );
  return answer.ticket;
}

async function send<Answer>(
  shot: number,
  route: string,
  field: string,
  files: File[],
  progress: (sent: number) => void,
  more: Record<string, string> = {},
  known?: string,
): Promise<Answer> {
  const where = files[0]!.name;
  const ticket =
    known ??
    (await ticketFor(
      shot,
      files.reduce((sum, file) => sum + file.size, 0),
    ));
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    request.open("POST", `/api/shots/${shot}/${route}`);
    request.setRequestHeader("X-CSRFToken", csrf());
    request.setRequestHeader("X-Nexal-Upload", ticket);
    request.upload.onprogress = (event) => event.lengthComputable && progress(event.loaded / event.total);
    request.onload = () => {
      let body: unknown;
      try {
        body = JSON.parse(request.responseText);
      } catch {
        body = null;
      }
      if (request.status < 300 && body) resolve(body as Answer);
      else
        reject(
          new ApiError(
            request.status,
            (body as Problem | null) ?? {
              code: "http",
              message: `the server answered with status ${request.status}`,
              where,
              remedy: "try again",
            },
          ),
        );
    };
    request.onerror = () =>
      reject(
        new ApiError(0, {
          code: "unreachable",
          message: "the connection broke",
          where,
          remedy: "check the server, then drop the file again",
        }),
      );
    const body = new FormData();
    for (const [name, value] of Object.entries(more)) body.append(name, value);
    for (const file of files) body.append(field, file);
    request.send(body);
  });
}

/** Put an imported file into the recipe under a free name. */
export function addSource(recipe: Recipe, row: Pick<SourceRow, "files" | "frames">): [Recipe, string] {
  const name = freeName(recipe, row.files.replace(/\.[^.]+$/, "").replace(/[._ -]*%\d*d/, ""));
  return [{ ...recipe, sources: { ...sourcesOf(recipe), [name]: newestOf(row) } }, name];
}

/** Have a version of an import's frames read by all that reads an earlier one. */
export function readVersion(recipe: Recipe, files: string, version: number): Recipe {
  const reads = (spec: SourceSpec) => spec.files === files && (spec.version ?? 1) < version;
  const sources = Object.entries(sourcesOf(recipe));
  if (!sources.some(([, spec]) => reads(spec))) return recipe;
  const changed = sources.map(([name, spec]) => [name, reads(spec) ? { ...spec, version } : spec]);
  return { ...recipe, sources: Object.fromEntries(changed) as Record<string, SourceSpec> };
}

/** What the manifest of channel files is called: with it, files dropped together make one picture. */
const MANIFEST = ".channels.json";

interface Parcel {
  name: string;
  send: (shot: number, progress: (sent: number) => void) => Promise<{ source: SourceRow; told: string[] }>;
}

/** Files as they go to the server: one by one, or together where a manifest is among them. */
function parcelsOf(files: File[]): Parcel[] {
  const manifest = files.find((file) => file.name.endsWith(MANIFEST));
  if (manifest) {
    return [
      {
        name: `${manifest.name.slice(0, -MANIFEST.length)}, ${files.length - 1} channel files`,
        send: (shot, progress) =>
          send<{ source: SourceRow; told: string[] }>(shot, "sources/reassembled", "files", files, progress),
      },
    ];
  }
  return files.map((file) => ({
    name: file.name,
    send: async (shot, progress) => ({
      source: await send<SourceRow>(shot, "sources", "file", [file], progress),
      told: [],
    }),
  }));
}

/** What of single files are frames of imports that are there, by their names. */
function framesAmong(single: File[], rows: SourceRow[]): { frames: [SourceRow, Sequence][]; rest: File[] } {
  let rest = single;
  const frames: [SourceRow, Sequence][] = [];
  for (const row of rows.filter((each) => each.frames)) {
    const fitting = rest.filter((file) => numberIn(row.files, file.name) !== null);
    if (!fitting.length) continue;
    rest = rest.filter((file) => !fitting.includes(file));
    frames.push([row, asFrames(row.files, fitting).sequence]);
  }
  return { frames, rest };
}

/**
 * Upload files; each is put into the recipe once it is unpacked, or handed on to `then`. A recipe file is asked about.
 * Numbered ones that are dropped on a source of many (`into`, its files) are its frames, whatever their names begin with.
 */
export function useImport(then?: (row: SourceRow) => void) {
  const client = useQueryClient();
  const { put, drop } = useUploads();
  return async (files: Iterable<File>, into?: string) => {
    const shot = useDraft.getState().shot;
    let all = [...files];
    const there = all.length ? await listedOf(shot) : [];
    const target = there.find((row) => row.frames && row.files === into);
    if (target) {
      const { sequence, others } = asFrames(target.files, all);
      if (sequence.files.size) await importSequence(shot, sequence, client, then, target);
      all = others;
    }
    const manifest = all.some((file) => file.name.endsWith(MANIFEST));
    const parted = manifest ? { sequences: [], single: all } : grouped(all);
    for (const sequence of parted.sequences) await importSequence(shot, sequence, client, then);
    const { frames, rest: single } = framesAmong(parted.single, manifest ? [] : there);
    const left: File[] = [];
    for (const [row, sequence] of frames)
      if (!(await importSequence(shot, sequence, client, then, row))) left.push(...sequence.files.values());
    single.push(...left);
    const names: File[] = [];
    for (const file of single.filter(mayBeRecipe)) {
      if (await isManifest(file)) {
        names.push(file);
        continue;
      }
      try {
        useDropped.getState().put({ name: file.name, recipe: await recipeIn(file) });
      } catch (error) {
        put({ key: next++, name: file.name, sent: 0, problem: problemOf(error), told: [], source: null });
      }
    }
    for (const parcel of parcelsOf(single.filter((file) => !mayBeRecipe(file)))) {
      const row: Upload = { key: next++, name: parcel.name, sent: 0, problem: null, told: [], source: null };
      put(row);
      try {
        const { source: kept, told } = await parcel.send(shot, (sent) => put({ ...row, sent }));
        put({ ...row, sent: 1, source: kept.id });
        const done = await unpacked(
          shot,
          kept.id,
          () => void client.invalidateQueries({ queryKey: ["sources", shot] }),
        );
        if (done.state === "failed") put({ ...row, sent: 1, source: kept.id, problem: done.problem ?? null });
        else {
          if (told.length) put({ ...row, sent: 1, source: kept.id, told });
          else drop(row.key);
          if (then) then(done);
          else if (useDraft.getState().shot === shot) {
            useDraft.getState().edit((recipe) => addSource(recipe, done)[0]);
            const numbers = done.frames?.numbers;
            if (numbers?.length) await lookAtFirst(shot, numbers[0]![0]!, client);
          }
        }
      } catch (error) {
        put({
          ...row,
          problem:
            error instanceof ApiError
              ? error.problem
              : { code: "unknown", message: String(error), where: parcel.name, remedy: "try again" },
        });
      }
    }
    // Names of ids come last: the picture that asks for them may have been among the others.
    for (const file of names) await nameIds(shot, file, client);
  };
}

async function nameIds(shot: number, file: File, client: QueryClient): Promise<void> {
  const { put } = useUploads.getState();
  const row: Upload = { key: next++, name: file.name, sent: 0, problem: null, told: [], source: null };
  try {
    const { source, told } = await send<{ source: SourceRow; told: string[] }>(
      shot,
      "sources/manifest",
      "file",
      [file],
      (sent) => put({ ...row, sent }),
    );
    put({ ...row, sent: 1, source: source.id, told });
    for (const key of ["items", "space", "sources"]) void client.invalidateQueries({ queryKey: [key, shot] });
  } catch (error) {
    put({ ...row, problem: problemOf(error) });
  }
}

const AT_ONCE = 3;
const TICKET_MS = 10 * 60_000;

const listedOf = (shot: number) =>
  got(api.GET("/api/shots/{shot_id}/sources", { params: { path: { shot_id: shot } } }));

/** What came of frames, in words. */
function tally(taken: string[]): string {
  const count = (what: string) => taken.filter((each) => each === what).length;
  const [fresh, other, equal] = [count("new"), count("differs"), count("equal")];
  return [
    fresh && `${fresh} new`,
    other && `${other} ${other === 1 ? "differs" : "differ"}`,
    equal && `${equal} equal`,
  ]
    .filter(Boolean)
    .join(", ");
}

/**
 * Send numbered files as one source; it comes into the recipe as soon as its first frame can be seen. Frames that are
 * there are compared: what differs is a new version, which the recipe reads then. Answers false where a single file is
 * meant as a picture of its own.
 */
async function importSequence(
  shot: number,
  sequence: Sequence,
  client: QueryClient,
  then?: (row: SourceRow) => void,
  target?: SourceRow,
): Promise<boolean> {
  const { put, drop } = useUploads.getState();
  const total = sequence.files.size;
  let upload: Upload = {
    key: next++,
    name: `${sequence.pattern}, ${total} frames`,
    sent: 0,
    problem: null,
    told: [],
    source: null,
  };
  const show = (change: Partial<Upload>) => {
    upload = { ...upload, ...change };
    put(upload);
  };
  const tick = () => void client.invalidateQueries({ queryKey: ["sources", shot] });
  const listed = () => listedOf(shot);
  try {
    const there =
      target ?? (await listed()).find((row) => row.frames && row.files === sequence.pattern) ?? null;
    const wish = there || total > MANY ? await useAsked.getState().ask(sequence, there) : "new";
    if (wish === "leave") return true;
    if (wish === "new" && there && total === 1) return false;
    show({});
    const source =
      wish === "add" && there
        ? there
        : await got(
            api.POST("/api/shots/{shot_id}/sequences", {
              params: { path: { shot_id: shot } },
              body: { files: sequence.pattern },
            }),
          );
    const largest = Math.max(...[...sequence.files.values()].map((file) => file.size));
    let ticket = { of: await ticketFor(shot, largest), at: Date.now() };
    const queue = [...sequence.files];
    const told: string[] = [];
    const taken: string[] = [];
    const into = (source.frames?.version ?? 1) + 1;
    let sent = 0;
    let known = wish === "add";
    /** The first frame that can be seen brings the source into the recipe. */
    const look = async () => {
      const row = (await listed()).find((each) => each.id === source.id);
      tick();
      if (known || !row?.frames?.ready) return;
      known = true;
      if (then) then(row);
      else if (useDraft.getState().shot === shot) {
        useDraft.getState().edit((recipe) => addSource(recipe, row)[0]);
        const numbers = [...sequence.files.keys()];
        await lookAtFirst(shot, numbers[0]!, client);
      }
    };
    const carry = async () => {
      for (let entry = queue.shift(); entry; entry = queue.shift()) {
        const [number, file] = entry;
        if (Date.now() - ticket.at > TICKET_MS)
          ticket = { of: await ticketFor(shot, largest), at: Date.now() };
        try {
          const answer = await send<{ taken: string }>(
            shot,
            `sources/${source.id}/frames`,
            "file",
            [file],
            () => undefined,
            { number: String(number), into: String(into) },
            ticket.of,
          );
          taken.push(answer.taken);
        } catch (error) {
          queue.length = 0;
          throw error;
        }
        sent += 1;
        show({ sent: sent / total, source: sent === total ? source.id : null });
        if (!known) await look();
      }
    };
    await Promise.all(Array.from({ length: Math.min(AT_ONCE, total) }, carry));
    show({ sent: 1, source: source.id });
    const done = await unpacked(shot, source.id, tick);
    if (!known) await look();
    if (wish === "add") told.push(tally(taken));
    const version = done.frames?.version ?? 1;
    // Those that are equal to what came later are meant, too: an earlier drop of them may have broken off.
    const later = (done.frames?.versions ?? []).flatMap((each) => each.numbers);
    const meant = later.some(([from, to]) =>
      [...sequence.files.keys()].some((at) => at >= from! && at <= to!),
    );
    if (meant && useDraft.getState().shot === shot) {
      const earlier = useDraft.getState().recipe;
      useDraft.getState().edit((recipe) => readVersion(recipe, source.files, version));
      if (useDraft.getState().recipe !== earlier)
        told.push(`version ${version} is read now; undo takes it back`);
    }
    for (const { number, problem } of done.frames?.failed ?? [])
      told.push(`frame ${number}: ${problem.message}`);
    if (done.state === "failed") show({ problem: done.problem ?? null });
    else if (told.length) show({ told: told.slice(0, 6) });
    else drop(upload.key);
  } catch (error) {
    show({ problem: problemOf(error) });
  } finally {
    tick();
  }
  return true;
}

/** Who has looked at single frames so far looks at the first of what moves now. */
async function lookAtFirst(shot: number, first: number, client: QueryClient): Promise<void> {
  const before = client.getQueryData<{ whole: ShotWhole }>(["shot", shot]);
  await client.invalidateQueries({ queryKey: ["shot", shot] });
  if (before && before.whole.last_frame <= before.whole.first_frame) goTo(first);
}

async function unpacked(shot: number, source: number, tick: () => void): Promise<SourceRow> {
  for (;;) {
    const rows = await got(api.GET("/api/shots/{shot_id}/sources", { params: { path: { shot_id: shot } } }));
    const row = rows.find((entry) => entry.id === source);
    tick();
    if (!row) throw new Error("the source is gone");
    if (!comes(row)) return row;
    await new Promise((resolve) => setTimeout(resolve, 400));
  }
}
