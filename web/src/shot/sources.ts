import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { create } from "zustand";

import { ApiError, type Problem, type SourceRow, api, csrf, got, problemOf } from "@/api/client";
import { freeName, type Recipe, sourcesOf } from "@/api/recipe";
import { useView } from "@/stage/viewState";

import { useDraft } from "./draft";
import { mayBeRecipe, recipeIn, useDropped } from "./recipes";

const PENDING = ["waiting", "reading"];

/** Everything imported into the open shot; asked again while something is being unpacked. */
export function useDraftSources(): SourceRow[] {
  const shot = useDraft((state) => state.shot);
  const answer = useQuery({
    queryKey: ["sources", shot],
    queryFn: () => got(api.GET("/api/shots/{shot_id}/sources", { params: { path: { shot_id: shot } } })),
    enabled: shot !== 0,
    refetchInterval: (query) => (query.state.data?.some((row) => PENDING.includes(row.state)) ? 500 : false),
  });
  return answer.data ?? NONE;
}

const NONE: SourceRow[] = [];

/** Once a source can be read that could not before, whatever was refused for it is asked for again. */
export function useArrivals(): void {
  const client = useQueryClient();
  const rows = useDraftSources();
  const before = useRef<Map<number, string>>(new Map());
  useEffect(() => {
    const arrived = rows.some((row) => {
      const state = before.current.get(row.id);
      return row.state === "ready" && state !== undefined && state !== "ready";
    });
    before.current = new Map(rows.map((row) => [row.id, row.state]));
    if (!arrived) return;
    void client.invalidateQueries({ queryKey: ["items", useDraft.getState().shot] });
    void client.refetchQueries({ predicate: (query) => query.state.status === "error" });
    useView.getState().change({ arrivals: useView.getState().arrivals + 1 });
  }, [rows, client]);
}

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

async function send<Answer>(
  shot: number,
  route: string,
  field: string,
  files: File[],
  progress: (sent: number) => void,
): Promise<Answer> {
  const where = files[0]!.name;
  // Whether it may come, and has room, is known before it is sent.
  const { ticket } = await got(
    api.POST("/api/shots/{shot_id}/upload-tickets", {
      params: { path: { shot_id: shot } },
      body: { bytes: files.reduce((sum, file) => sum + file.size, 0) },
    }),
  );
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
    for (const file of files) body.append(field, file);
    request.send(body);
  });
}

/** Put an imported file into the recipe under a free name. */
export function addSource(recipe: Recipe, files: string): [Recipe, string] {
  const name = freeName(recipe, files.replace(/\.[^.]+$/, ""));
  return [{ ...recipe, sources: { ...sourcesOf(recipe), [name]: { files } } }, name];
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

/** Upload files; each is put into the recipe once it is unpacked, or handed on to `then`. A recipe file is asked about. */
export function useImport(then?: (row: SourceRow) => void) {
  const client = useQueryClient();
  const { put, drop } = useUploads();
  return async (files: Iterable<File>) => {
    const shot = useDraft.getState().shot;
    const all = [...files];
    for (const file of all.filter(mayBeRecipe)) {
      try {
        useDropped.getState().put({ name: file.name, recipe: await recipeIn(file) });
      } catch (error) {
        put({ key: next++, name: file.name, sent: 0, problem: problemOf(error), told: [], source: null });
      }
    }
    for (const parcel of parcelsOf(all.filter((file) => !mayBeRecipe(file)))) {
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
          else if (useDraft.getState().shot === shot)
            useDraft.getState().edit((recipe) => addSource(recipe, done.files)[0]);
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
  };
}

async function unpacked(shot: number, source: number, tick: () => void): Promise<SourceRow> {
  for (;;) {
    const rows = await got(api.GET("/api/shots/{shot_id}/sources", { params: { path: { shot_id: shot } } }));
    const row = rows.find((entry) => entry.id === source);
    tick();
    if (!row) throw new Error("the source is gone");
    if (!PENDING.includes(row.state)) return row;
    await new Promise((resolve) => setTimeout(resolve, 400));
  }
}
