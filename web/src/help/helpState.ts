import { create } from "zustand";

interface HelpState {
  open: boolean;
  /** The page that is opened: `step-` and an operation, `how-` and a job's title, or `keys`. */
  page: string;
  /** The setting of an operation that is meant. */
  setting: string | null;
  show: (page?: string, setting?: string | null) => void;
  close: () => void;
}

/** Whether the help lies open, and at which page. */
export const useHelp = create<HelpState>((set) => ({
  open: false,
  page: "keys",
  setting: null,
  show: (page = "keys", setting = null) => set({ open: true, page, setting }),
  close: () => set({ open: false }),
}));

/** The page of an operation. */
export const stepPage = (operation: string) => `step-${operation}`;

/** The page of a job, as the README calls it. */
export const jobPage = (title: string) => `how-${title}`;
