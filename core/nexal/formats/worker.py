"""The decode worker: a process of its own that unpacks files into a plane store, one after the other, under limits.

    python -m nexal.formats.worker SOCKET PARENT

A damaged or hostile file can then take down nothing but its own worker. Memory and processor time are bounded for
each file by RLIMIT_AS and RLIMIT_CPU: small until the header has been found sound, then by what it says. A line of
JSON on the socket names a file and the folder for its planes, and brings the lock that guards the folder; a line back
tells how it went. It ends after some files, when it has grown, when nothing is asked for a while, and when its parent
is gone.
"""

from __future__ import annotations

import json
import os
import resource
import select
import socket
import sys
import threading
import time
from pathlib import Path
from typing import Any

from nexal.errors import NO_ROOM, DiskError, NexalError
from nexal.formats.decoded import Limits
from nexal.formats.raster import read_picture
from nexal.formats.stored import write_json
from nexal.formats.unpack import unpack
from nexal.formats.video import opened

BASE_MEMORY = 1_600 << 20
ROOM = BASE_MEMORY // 2
"""What is left of that, at the least, once the libraries are loaded."""
BASE_SECONDS = 20
"""What starting takes at the most on a busy machine."""
BYTES_PER_SECOND = 25_000_000
"""Slowest unpacking that is still waited for."""
SECONDS_PER_CHANNEL = 0.03
"""What a channel may take besides, however small it is: its files and its report."""

ADMITTED = "admitted"
"""File in the folder that holds how many seconds more a sound header is worth."""
COUNT, VIDEO = 0, "video.json"
"""The frame that is asked for to have a video's frames counted, and the file that tells of them."""
LOOK_SECONDS = 0.25
MOST_FILES = 200
MOST_GROWTH = 400 << 20
IDLE_SECONDS = 20
"""How long it waits for its next file."""


def main(arguments: list[str]) -> int:
    own, parent = socket.socket(fileno=int(arguments[0])), int(arguments[1])
    threading.Thread(target=_end_with, args=(parent,), daemon=True).start()
    _limit(resource.RLIMIT_AS, BASE_MEMORY)
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    # Libraries report faults of a file on standard error, in their own words; ours come as JSON.
    os.dup2(os.open(os.devnull, os.O_WRONLY), 2)
    began = 0
    for count in range(1, MOST_FILES + 1):
        ready, _, _ = select.select([own], [], [], IDLE_SECONDS)
        if not ready:
            return 0
        message, locks, _, _ = socket.recv_fds(own, 1 << 16, 1)
        while message and not message.endswith(b"\n"):
            message += own.recv(1 << 16)
        if not message:
            return 0
        question = json.loads(message)
        try:
            answer = unpacked(question)
        finally:
            for lock in locks:
                os.close(lock)
        # Libraries are loaded with the first file.
        began = began or _address_space()
        again = count < MOST_FILES and _address_space() < began + MOST_GROWTH
        own.sendall(json.dumps(answer | {"again": again}).encode() + b"\n")
        if not again:
            return 0
    return 0


def unpacked(question: dict[str, Any]) -> dict[str, Any]:
    """Unpack a file, or a frame of a video; what went wrong, or nothing. Frame 0 has a video's counted."""
    path, folder, frame = Path(question["file"]), Path(question["folder"]), question.get("frame")
    admitted, seconds = 0, 0.0
    used = int(time.process_time())
    # What earlier files left behind takes no room from this one.
    base = max(BASE_MEMORY, _address_space() + ROOM)

    def admit(decoded_bytes: int, channels: int) -> None:
        nonlocal admitted, seconds
        admitted += decoded_bytes
        seconds += decoded_bytes / BYTES_PER_SECOND + channels * SECONDS_PER_CHANNEL
        _limit(resource.RLIMIT_AS, base + 3 * admitted)
        _limit(resource.RLIMIT_CPU, used + BASE_SECONDS + int(2 * seconds))
        (folder / ADMITTED).write_text(str(seconds), encoding="ascii")

    _limit(resource.RLIMIT_AS, base)
    # Processor time is counted over all files of this process.
    _limit(resource.RLIMIT_CPU, used + BASE_SECONDS)
    try:
        limits = Limits(admit=admit)
        if frame is None:
            unpack(read_picture(path, limits), folder, question["lean"])
        elif frame == COUNT:
            info = opened(path, limits).info
            write_json(folder / VIDEO, {"numbers": info.numbers, "rate": info.rate, "warnings": info.warnings})
        else:
            unpack(opened(path, limits).frame(frame), folder, question["lean"])
        return {}
    except NexalError as error:
        # Libraries name the whole path; where a file lies is nobody's business.
        message = error.message.replace(f'"{path}"', path.name).replace(str(path), path.name)
        return {"code": error.code, "message": message, "remedy": error.remedy}
    except OSError as error:
        if error.errno not in NO_ROOM:
            raise
        return {"code": DiskError.code, "bytes": admitted}
    except MemoryError:
        return {
            "code": "format",
            "message": "needs more memory than its header says",
            "remedy": "the file is probably damaged; save it again",
        }


def _address_space() -> int:
    """Bytes of address space in use, which RLIMIT_AS bounds."""
    return int(Path("/proc/self/statm").read_text(encoding="ascii").split()[0]) * resource.getpagesize()


def _end_with(parent: int) -> None:
    while os.getppid() == parent:
        time.sleep(LOOK_SECONDS)
    os._exit(1)


def _limit(kind: int, value: int) -> None:
    _, hard = resource.getrlimit(kind)
    resource.setrlimit(kind, (value if hard == resource.RLIM_INFINITY else min(value, hard), hard))


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
