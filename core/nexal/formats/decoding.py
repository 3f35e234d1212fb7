"""Unpacking files in processes of their own, under limits of memory and time. A process lives for many files."""

from __future__ import annotations

import atexit
import json
import os
import socket
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

import nexal
from nexal.errors import DiskError, FormatError
from nexal.formats.video import VideoInfo
from nexal.formats.worker import ADMITTED, BASE_SECONDS, COUNT, VIDEO

MOST_IDLE = os.cpu_count() or 2
"""Workers that wait for their next file."""
LOOK_SECONDS = 0.25


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


def _asked(question: dict[str, Any], lock: int | None, new: bool) -> tuple[Worker, bool]:
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


def _kept(worker: Worker) -> None:
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


def video_info(path: Path) -> VideoInfo:
    """Frames and rate of a video, found in a process of its own. Raises FormatError, placed at the file."""
    with tempfile.TemporaryDirectory(prefix="nexal-video-") as folder:
        decode_file(path, Path(folder), frame=COUNT)
        told = json.loads((Path(folder) / VIDEO).read_text(encoding="utf-8"))
    return VideoInfo(told["frames"], told["rate"], tuple(told["warnings"]))


def decode_file(
    path: Path,
    folder: Path,
    cancelled: Callable[[], bool] = lambda: False,
    lock: int | None = None,
    lean: bool = False,
    frame: int | None = None,
) -> None:
    """Unpack a picture file into `folder` in a process of its own, under limits of memory and time.

    `lock` is an open file that guards the folder. The process holds it too: should this one be killed, nobody else
    takes the folder while the process still writes there, which it stops within a second. `lean`: see `unpack`.
    `frame` is that of a video, from 1 on.

    Raises FormatError, placed at the file, where it is damaged, unknown, or beyond the limits, and DiskError.
    """
    folder.mkdir(parents=True, exist_ok=True)
    answer = None
    question = {"file": str(path), "folder": str(folder), "lean": lean, "frame": frame}
    for new in (False, True):
        answer, fresh = _told(path, question, cancelled, lock, new)
        if answer is not None or fresh:
            break
        # It may have died of what it read before.
    if answer is None:
        raise FormatError(
            "made its reader give up: it is damaged or needs too much memory",
            where=path.name,
            remedy="save or copy the file again",
        )
    if answer and answer["code"] == DiskError.code:
        raise DiskError("cannot be unpacked", where=path.name, needed=answer["bytes"])
    if answer:
        raise FormatError(answer["message"], where=path.name, remedy=answer["remedy"])


def _told(
    path: Path, question: dict[str, Any], cancelled: Callable[[], bool], lock: int | None, new: bool
) -> tuple[dict[str, Any] | None, bool]:
    """What a worker says of a file, None where it died of it; and whether the file was its first."""
    folder = Path(question["folder"])
    (folder / ADMITTED).unlink(missing_ok=True)
    worker, fresh = _asked(question, lock, new)
    start = time.monotonic()
    extra = 0.0
    answer: dict[str, Any] | None = None
    try:
        while answer is None:
            if cancelled() or time.monotonic() - start > BASE_SECONDS + extra:
                raise FormatError("takes too long to read", where=path.name, remedy="save it uncompressed, or check it")
            answer = worker.answer(LOOK_SECONDS)
            if not extra and (folder / ADMITTED).exists():
                with suppress(ValueError):
                    extra = float((folder / ADMITTED).read_text(encoding="ascii") or 0)
    except EOFError:
        return None, fresh
    finally:
        # One that died, or was given up, is not asked again.
        if answer is None:
            worker.end()
    if answer.pop("again"):
        _kept(worker)
    else:
        worker.end()
    return answer, fresh
