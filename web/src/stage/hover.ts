import { create } from "zustand";

/** Where in the picture the pointer is, in full-resolution pixels; null where it is elsewhere. */
export const useHover = create<{ at: [number, number] | null }>(() => ({ at: null }));
