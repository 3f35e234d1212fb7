"""Unpacking files in processes of their own, under limits of memory and time. A process lives for many files."""

from __future__ import annotations

import json
import tempfile
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

from nexal.errors import DiskError, FormatError
from nexal.formats.video import VideoInfo
from nexal.formats.worker import ADMITTED, BASE_SECONDS, COUNT, VIDEO
from nexal.formats.workers import asked, keep

LOOK_SECONDS = 0.25


def video_info(path: Path) -> VideoInfo:
    """Frames and rate of a video, found in a process of its own. Raises FormatError, placed at the file."""
    with tempfile.TemporaryDirectory(prefix="nexal-video-") as folder:
        decode_file(path, Path(folder), frame=COUNT)
        told = json.loads((Path(folder) / VIDEO).read_text(encoding="utf-8"))
    return VideoInfo(tuple(told["numbers"]), told["rate"], tuple(told["warnings"]))


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
    worker, fresh = asked(question, lock, new)
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
        keep(worker)
    else:
        worker.end()
    return answer, fresh
