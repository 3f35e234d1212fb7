import { createContext, useContext } from "react";

import type { Range } from "./range";

/** All frames of the open shot; null for a single one. */
export const Whole = createContext<Range | null>(null);

export const useWhole = () => useContext(Whole);
