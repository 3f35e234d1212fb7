"""Decode workers: processes that unpack files (`formats/worker.py`), and wait for the next one in between.

Little is imported here: who knows that it will have files to unpack starts a worker before anything else.
"""

from __future__ import annotations

import atexit
import json
import os
import socket
import subprocess
import sys
import threading
from pathlib import Path
from typing import Any

import nexal

MOST_IDLE = os.cpu_count() or 2
"""Workers that wait for their next file."""


class Worker:
    """A decode worker, and the socket that it is spoken to by: a line of JSON a file, there and back."""

    def __init__(self) -> None:
        ours, theirs = socket.socketpair()
        environment = os.environ | {"PYTHONPATH": str(Path(nexal.__file__).parent.parent)}
        with theirs:
            self.process = subprocess.Popen(
                [sys.executable, "-m", "nexal.formats.worker", str(theirs.fileno()), str(os.getpid())],
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
                pass_fds=(theirs.fileno(),),
                env=environment,
                # A key that stops a command is for the command, which ends its workers.
                start_new_session=True,
            )
        self._socket = ours
        self._heard = b""

    def ask(self, question: dict[str, Any], lock: int | None) -> bool:
        """Send a file to it; False where it has gone."""
        self._socket.settimeout(None)
        try:
            socket.send_fds(self._socket, [json.dumps(question).encode() + b"\n"], [] if lock is None else [lock])
        except OSError:
            return False
        return True

    def answer(self, seconds: float) -> dict[str, Any] | None:
        """Its answer, or None where there is none after a while. Raises EOFError where it died."""
        # Not `select`: a server has more open files than that can look at.
        self._socket.settimeout(seconds)
        try:
            block = self._socket.recv(1 << 16)
        except TimeoutError:
            return None
        except OSError:
            block = b""
        if not block:
            raise EOFError
        self._heard += block
        if not self._heard.endswith(b"\n"):
            return None
        found: dict[str, Any] = json.loads(self._heard)
        self._heard = b""
        return found

    def end(self) -> None:
        self._socket.close()
        if self.process.poll() is None:
            self.process.kill()
        self.process.wait()


_idle: list[Worker] = []
_guard = threading.Lock()


def asked(question: dict[str, Any], lock: int | None, new: bool) -> tuple[Worker, bool]:
    """A worker that has the question: one that waited, or a new one; and whether it is new."""
    while not new:
        with _guard:
            worker = _idle.pop() if _idle else None
        if worker is None:
            break
        if worker.process.poll() is None and worker.ask(question, lock):
            return worker, False
        worker.end()
    worker = Worker()
    worker.ask(question, lock)
    return worker, True


def keep(worker: Worker) -> None:
    with _guard:
        if len(_idle) < MOST_IDLE:
            _idle.append(worker)
            return
    worker.end()


@atexit.register
def _end_all() -> None:
    with _guard:
        while _idle:
            _idle.pop().end()


def begin() -> None:
    """Start a worker that waits for the first file: starting takes as long as a command's own start."""
    keep(Worker())
