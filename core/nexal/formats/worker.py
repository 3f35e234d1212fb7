"""The decode worker: a process of its own that unpacks one file into a plane store, under limits.

    python -m nexal.formats.worker FILE FOLDER PARENT

A damaged or hostile file can then take down nothing but its own worker. Memory and processor time are bounded by
RLIMIT_AS and RLIMIT_CPU: small until the header has been found sound, then by what it says. One line of JSON on
standard output tells how it went. Nobody waits for it once its parent is gone: then it ends too.
"""

from __future__ import annotations

import json
import os
import resource
import sys
import threading
import time
from pathlib import Path
from typing import Any

from nexal.errors import NO_ROOM, DiskError, NexalError
from nexal.formats.decoded import Limits
from nexal.formats.raster import read_picture
from nexal.formats.unpack import unpack

BASE_MEMORY = 1_600 << 20
BASE_SECONDS = 20
"""What starting takes at the most on a busy machine."""
BYTES_PER_SECOND = 25_000_000
"""Slowest unpacking that is still waited for."""
SECONDS_PER_CHANNEL = 0.03
"""What a channel may take besides, however small it is: its files and its report."""

ADMITTED = "admitted"
"""File in the folder that holds how many seconds more a sound header is worth."""
LOOK_SECONDS = 0.25


def main(arguments: list[str]) -> int:
    path, folder, parent = Path(arguments[0]), Path(arguments[1]), int(arguments[2])
    threading.Thread(target=_end_with, args=(parent,), daemon=True).start()
    admitted, seconds = 0, 0.0

    def admit(decoded_bytes: int, channels: int) -> None:
        nonlocal admitted, seconds
        admitted += decoded_bytes
        seconds += decoded_bytes / BYTES_PER_SECOND + channels * SECONDS_PER_CHANNEL
        _limit(resource.RLIMIT_AS, BASE_MEMORY + 3 * admitted)
        _limit(resource.RLIMIT_CPU, BASE_SECONDS + int(2 * seconds))
        (folder / ADMITTED).write_text(str(seconds), encoding="ascii")

    _limit(resource.RLIMIT_AS, BASE_MEMORY)
    _limit(resource.RLIMIT_CPU, BASE_SECONDS)
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    # Libraries report faults of a file on standard error, in their own words; ours come as JSON.
    os.dup2(os.open(os.devnull, os.O_WRONLY), 2)
    try:
        unpack(read_picture(path, Limits(admit=admit)), folder)
        answer: dict[str, Any] = {}
    except NexalError as error:
        # Libraries name the whole path; where a file lies is nobody's business.
        message = error.message.replace(f'"{path}"', path.name).replace(str(path), path.name)
        answer = {"code": error.code, "message": message, "remedy": error.remedy}
    except OSError as error:
        if error.errno not in NO_ROOM:
            raise
        answer = {"code": DiskError.code, "bytes": admitted}
    except MemoryError:
        answer = {
            "code": "format",
            "message": "needs more memory than its header says",
            "remedy": "the file is probably damaged; save it again",
        }
    print(json.dumps(answer))
    return 0


def _end_with(parent: int) -> None:
    while os.getppid() == parent:
        time.sleep(LOOK_SECONDS)
    os._exit(1)


def _limit(kind: int, value: int) -> None:
    _, hard = resource.getrlimit(kind)
    resource.setrlimit(kind, (value if hard == resource.RLIM_INFINITY else min(value, hard), hard))


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
