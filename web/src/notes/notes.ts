import { useQuery } from "@tanstack/react-query";
import { create } from "zustand";

import { type Item, api, got } from "@/api/client";
import type { components } from "@/api/schema";

export type NoteRow = components["schemas"]["NoteRow"];
export type NewNote = components["schemas"]["NewNote"];

/** Where a note is to be about. */
export interface Place {
  item: string;
  x: number;
  y: number;
  frame: number;
}

interface Noting {
  /** The notes lie open beside the stage. */
  open: boolean;
  /** The note that is looked at. */
  chosen: number | null;
  /** The place of the note that is being written. */
  place: Place | null;
  /** Where notes are about a place, it is marked on the stage. */
  pinned: boolean;
  change: (to: Partial<Noting>) => void;
}

export const useNoting = create<Noting>((set) => ({
  open: false,
  chosen: null,
  place: null,
  pinned: true,
  change: (to) => set(to),
}));

/** Under which the notes of a shot are kept in the page. */
export const notesKey = (shot: number) => ["notes", shot];

/** The open notes of a shot, the newest first. */
export function useOpenNotes(shot: number) {
  return useQuery({
    queryKey: [...notesKey(shot), "open"],
    queryFn: () => got(api.GET("/api/shots/{shot_id}/notes", { params: { path: { shot_id: shot } } })),
    staleTime: 60_000,
  });
}

/** Whether a note's place lies in the picture that is shown: of its own item, or of one of the same size. */
export function isSeenOn(
  note: Pick<NoteRow, "item" | "x" | "y" | "frame">,
  items: Item[],
  shown: Item | undefined,
  frame: number,
): boolean {
  if (note.x === null || note.y === null || !shown?.display) return false;
  if (note.frame !== null && note.frame !== frame) return false;
  if (note.item === shown.name) return true;
  const own = items.find((entry) => entry.name === note.item)?.display;
  return !own || (own[2] === shown.display[2] && own[3] === shown.display[3]);
}

/** What a note is about, in words; `moving` where the shot has more than one frame. */
export function aboutOf(note: Pick<NoteRow, "item" | "x" | "y" | "frame">, moving: boolean): string {
  const place = note.x !== null && note.y !== null ? ` at ${Math.round(note.x)}, ${Math.round(note.y)}` : "";
  const frame = moving && note.frame !== null ? `, frame ${note.frame}` : "";
  return note.item ? `${note.item}${place}${frame}` : `the shot${frame}`;
}
