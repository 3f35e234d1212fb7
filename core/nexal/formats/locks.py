"""Locks between threads and processes, as files that the kernel lets go of when a process dies."""

from __future__ import annotations

import fcntl
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path


def acquire(path: Path, *, shared: bool = False, wait: bool = True) -> int | None:
    """An open file that holds the lock until it is closed; None where somebody else has it and `wait` is off.

    Whoever holds a lock alone may delete its file: who waited for the deleted one notices and takes the new one.
    """
    path.parent.mkdir(parents=True, exist_ok=True)
    kind = (fcntl.LOCK_SH if shared else fcntl.LOCK_EX) | (0 if wait else fcntl.LOCK_NB)
    while True:
        file = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o640)
        try:
            fcntl.flock(file, kind)
        except BlockingIOError:
            os.close(file)
            return None
        except BaseException:
            os.close(file)
            raise
        if os.fstat(file).st_nlink:
            return file
        os.close(file)


@contextmanager
def held(path: Path, *, shared: bool = False) -> Iterator[int]:
    """Waits for the lock, gives its open file, and lets go of it afterwards; whoever inherited the file holds on."""
    file = acquire(path, shared=shared)
    assert file is not None
    try:
        yield file
    finally:
        os.close(file)
