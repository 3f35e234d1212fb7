"""Stop processes of a run for moments, as a machine does that others use too.

    ./run test & python3 tools/stutter.py $!        until it ends; --longest SECONDS, --seed NUMBER, --also PID

One to three of all that the run started stand still together for up to 1.2 seconds. Tests that look once, or after a
fixed time, for what comes later do not survive it.
"""

from __future__ import annotations

import argparse
import os
import random
import signal
import sys
import time
from collections import defaultdict
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path

FEWEST = 3
"""Processes below which the run is only being set up: all of it would stand still nearly all of the time."""


def started_by(root: int) -> list[int]:
    """The processes that a process started, and those that these did."""
    children: dict[int, list[int]] = defaultdict(list)
    for process in Path("/proc").glob("[0-9]*"):
        with suppress(OSError):
            parent = (process / "stat").read_text().rpartition(")")[2].split()[1]
            children[int(parent)].append(int(process.name))
    found = [root]
    for pid in found:
        found += children[pid]
    return found[1:]


def send(pids: Iterable[int], number: signal.Signals) -> None:
    for pid in pids:
        with suppress(ProcessLookupError):
            os.kill(pid, number)


def main() -> int:
    parser = argparse.ArgumentParser(description="Stop processes of a run for moments, until it ends.")
    parser.add_argument("pid", type=int, help="the process that started the run")
    parser.add_argument("--longest", type=float, default=1.2, help="seconds")
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--also", type=int, nargs="*", default=[], help="what others started: the database")
    given = parser.parse_args()
    chance, count = random.Random(given.seed), 0
    while Path(f"/proc/{given.pid}").exists():
        running = [*started_by(given.pid), *given.also]
        if len(running) >= FEWEST:
            chosen = chance.sample(running, chance.choice([1, 1, 2, 3]))
            try:
                send(chosen, signal.SIGSTOP)
                time.sleep(chance.uniform(0.05, given.longest))
            finally:
                send(chosen, signal.SIGCONT)
            count += 1
        time.sleep(chance.uniform(0.1, 0.8))
    print(f"stopped {count} times", file=sys.stderr)
    return 0


if __name__ == "__main__":
    sys.exit(main())
