"""Unpacking a file in a process of its own, under limits of memory and time."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import nexal
from nexal.errors import DiskError, FormatError
from nexal.formats.worker import ADMITTED, BASE_SECONDS


def decode_file(
    path: Path, folder: Path, cancelled: Callable[[], bool] = lambda: False, lock: int | None = None
) -> None:
    """Unpack a picture file into `folder` in a process of its own, under limits of memory and time.

    `lock` is an open file that guards the folder. The process inherits it: should this one be killed, nobody else
    takes the folder while the process still writes there, which it stops within a second.

    Raises FormatError, placed at the file, where it is damaged, unknown, or beyond the limits, and DiskError.
    """
    folder.mkdir(parents=True, exist_ok=True)
    environment = os.environ | {"PYTHONPATH": str(Path(nexal.__file__).parent.parent)}
    worker = subprocess.Popen(
        [sys.executable, "-m", "nexal.formats.worker", str(path), str(folder), str(os.getpid())],
        stdout=subprocess.PIPE,
        pass_fds=() if lock is None else (lock,),
        env=environment,
        text=True,
    )
    start = time.monotonic()
    extra = 0.0
    try:
        while True:
            try:
                output, _ = worker.communicate(timeout=0.25)
                break
            except subprocess.TimeoutExpired:
                if not extra and (folder / ADMITTED).exists():
                    extra = float((folder / ADMITTED).read_text(encoding="ascii") or 0)
                if cancelled() or time.monotonic() - start > BASE_SECONDS + extra:
                    raise FormatError(
                        "takes too long to read", where=path.name, remedy="save it uncompressed, or check it"
                    ) from None
    finally:
        if worker.poll() is None:
            worker.kill()
            worker.wait()
    try:
        # A library may have printed on standard output before.
        answer = json.loads(output.strip().splitlines()[-1])
    except (json.JSONDecodeError, IndexError):
        raise FormatError(
            "made its reader give up: it is damaged or needs too much memory",
            where=path.name,
            remedy="save or copy the file again",
        ) from None
    if answer and answer["code"] == DiskError.code:
        raise DiskError("cannot be unpacked", where=path.name, needed=answer["bytes"])
    if answer:
        raise FormatError(answer["message"], where=path.name, remedy=answer["remedy"])
