import { vi } from "vitest";

/** Waits until an expectation holds, however slow the machine is. */
export const until = (holds: () => void) => vi.waitFor(holds, { timeout: 20_000 });
