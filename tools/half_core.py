"""Runs a command at the share of one core, with all that it starts: what it draws is not to stand in anybody's way.

    python tools/half_core.py [--share 0.5] [--while FILE] COMMAND...

Whatever has used more than its share is stopped until it has not. Its end is that of the command, which ends when the
file is there no more.
"""

from __future__ import annotations

import argparse
import signal
import subprocess
import sys
import time
from contextlib import suppress
from pathlib import Path

import psutil

LOOK_SECONDS = 0.1
LONGEST_STOP = 0.5
"""Seconds: whoever waits for what it holds in the database waits no longer."""
END_SECONDS = 5.0
CREDIT = 0.3
"""Seconds of processor time that may be saved up."""


class Share:
    """The processor time of a process and of all that it started, held to a share of one core."""

    def __init__(self, root: psutil.Process, share: float) -> None:
        self.root, self.share = root, share
        self._used: dict[int, float] = {}
        self._balance, self._at = 0.0, time.monotonic()

    def processes(self) -> list[psutil.Process]:
        with suppress(psutil.NoSuchProcess):
            return [self.root, *self.root.children(recursive=True)]
        return []

    def look(self) -> float:
        """Count what was used since; answers the seconds for which everything has to stand still now."""
        now, used = time.monotonic(), 0.0
        for process in self.processes():
            with suppress(psutil.NoSuchProcess):
                times = process.cpu_times()
                total = times.user + times.system
                used += max(0.0, total - self._used.get(process.pid, total))
                self._used[process.pid] = total
        self._balance = min(CREDIT, self._balance + self.share * (now - self._at) - used)
        self._at = now
        return max(0.0, -self._balance / self.share)

    def send(self, number: signal.Signals) -> None:
        for process in self.processes():
            with suppress(psutil.NoSuchProcess):
                process.send_signal(number)


def main() -> int:
    parser = argparse.ArgumentParser(description="Run a command at a share of one core.")
    parser.add_argument("--share", type=float, default=0.5)
    parser.add_argument("--while", dest="needed", type=Path, metavar="FILE")
    parser.add_argument("command", nargs=argparse.REMAINDER)
    given = parser.parse_args()
    running = subprocess.Popen(given.command)
    share = Share(psutil.Process(running.pid), given.share)

    def end(number: int, frame: object) -> None:
        share.send(signal.SIGCONT)
        share.send(signal.SIGTERM)

    signal.signal(signal.SIGTERM, end)
    while running.poll() is None:
        if given.needed and not given.needed.exists():
            end(signal.SIGTERM, None)
            with suppress(subprocess.TimeoutExpired):
                return running.wait(END_SECONDS)
            share.send(signal.SIGKILL)
        wait = share.look()
        if wait > LOOK_SECONDS:
            try:
                share.send(signal.SIGSTOP)
                time.sleep(min(wait, LONGEST_STOP))
            finally:
                share.send(signal.SIGCONT)
        time.sleep(LOOK_SECONDS)
    return running.returncode


if __name__ == "__main__":
    sys.exit(main())
