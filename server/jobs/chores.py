"""Chores: clearing what killed processes left, at a server's start and every hour.

Apps register theirs (`register`, in their `AppConfig.ready`). A chore may run in several processes at once.
"""

import logging
import shutil
import threading
import time
from collections.abc import Callable, Iterable
from contextlib import suppress
from pathlib import Path

from django.db import connection

log = logging.getLogger("nexal.chores")

EVERY_SECONDS = 3600.0
OLD_SECONDS = 24 * 3600.0
"""What nobody has touched for so long is nobody's any more."""

_CHORES: list[Callable[[], None]] = []


def register(chore: Callable[[], None]) -> None:
    _CHORES.append(chore)


def clear(paths: Iterable[Path], older_than: float = OLD_SECONDS) -> None:
    """Delete files and folders that were not touched for a while."""
    now = time.time()
    for path in paths:
        with suppress(OSError):
            if now - path.lstat().st_mtime < older_than:
                continue
            if path.is_dir() and not path.is_symlink():
                shutil.rmtree(path, ignore_errors=True)
            else:
                path.unlink()


def run_all() -> None:
    """Every chore once; one that fails keeps the others from nothing."""
    for chore in _CHORES:
        try:
            chore()
        except Exception:
            log.exception("the chore %s failed", chore.__qualname__)


def begin() -> None:
    """Run them now and every hour, beside everything else."""

    def work() -> None:
        while True:
            run_all()
            connection.close()
            time.sleep(EVERY_SECONDS)

    threading.Thread(target=work, name="nexal-chores", daemon=True).start()
