import { execFileSync } from "node:child_process";
import { fileURLToPath } from "node:url";

import type { OperationRow } from "@/api/client";

const ROOT = fileURLToPath(new URL("../..", import.meta.url));

/** Every operation, as the core tells of it. */
export const OPERATIONS = JSON.parse(
  execFileSync(`${ROOT}.venv/bin/python`, ["-m", "nexal", "operations", "--json"], {
    env: { ...process.env, PYTHONPATH: `${ROOT}core` },
    encoding: "utf8",
    maxBuffer: 1 << 26,
  }),
) as OperationRow[];

export const find = (op: string): OperationRow => OPERATIONS.find((entry) => entry.op === op)!;
