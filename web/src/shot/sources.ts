import { useQuery, useQueryClient } from "@tanstack/react-query";
import { create } from "zustand";

import { ApiError, type Problem, type SourceRow, api, csrf, got } from "@/api/client";
import { freeName, type Recipe, sourcesOf } from "@/api/recipe";

import { useDraft } from "./draft";

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

export interface Upload {
  key: number;
  name: string;
  /** 0 to 1 of the bytes sent. */
  sent: number;
  problem: Problem | null;
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

function send(shot: number, file: File, progress: (sent: number) => void): Promise<SourceRow> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    request.open("POST", `/api/shots/${shot}/sources`);
    request.setRequestHeader("X-CSRFToken", csrf());
    request.upload.onprogress = (event) => event.lengthComputable && progress(event.loaded / event.total);
    request.onload = () => {
      let body: unknown;
      try {
        body = JSON.parse(request.responseText);
      } catch {
        body = null;
      }
      if (request.status < 300 && body) resolve(body as SourceRow);
      else
        reject(
          new ApiError(
            request.status,
            (body as Problem | null) ?? {
              code: "http",
              message: `the server answered with status ${request.status}`,
              where: file.name,
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
          where: file.name,
          remedy: "check the server, then drop the file again",
        }),
      );
    const body = new FormData();
    body.append("file", file);
    request.send(body);
  });
}

/** Put an imported file into the recipe under a free name. */
export function addSource(recipe: Recipe, files: string): [Recipe, string] {
  const name = freeName(recipe, files.replace(/\.[^.]+$/, ""));
  return [{ ...recipe, sources: { ...sourcesOf(recipe), [name]: { files } } }, name];
}

/** Upload files; each is put into the recipe once it is unpacked. */
export function useImport() {
  const client = useQueryClient();
  const { put, drop } = useUploads();
  return async (files: Iterable<File>) => {
    const shot = useDraft.getState().shot;
    for (const file of files) {
      const row: Upload = { key: next++, name: file.name, sent: 0, problem: null, source: null };
      put(row);
      try {
        const kept = await send(shot, file, (sent) => put({ ...row, sent }));
        put({ ...row, sent: 1, source: kept.id });
        const done = await unpacked(
          shot,
          kept.id,
          () => void client.invalidateQueries({ queryKey: ["sources", shot] }),
        );
        if (done.state === "failed") put({ ...row, sent: 1, source: kept.id, problem: done.problem ?? null });
        else {
          drop(row.key);
          if (useDraft.getState().shot === shot)
            useDraft.getState().edit((recipe) => addSource(recipe, done.files)[0]);
        }
      } catch (error) {
        put({
          ...row,
          problem:
            error instanceof ApiError
              ? error.problem
              : { code: "unknown", message: String(error), where: file.name, remedy: "try again" },
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
