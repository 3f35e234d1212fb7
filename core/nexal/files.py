"""Files written whole or not at all, and told from what they were before."""

from __future__ import annotations

import os
import secrets
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

NAME_LETTERS = 100
"""Of a file's own name, in that of its unfinished self: names may be 255 bytes long."""
Stamp = tuple[int, int, int]
"""Of a file: its size, when it was written in nanoseconds, its number on the disk."""


@contextmanager
def written_whole(path: Path) -> Iterator[Path]:
    """A path beside `path` to write to, which takes its place afterwards; where writing fails, nothing is left.

    No other thread, process or machine is given the same path. Its suffix is that of `path`.
    """
    part = path.with_name(f".{path.stem[:NAME_LETTERS]}.{secrets.token_hex(8)}{path.suffix}")
    try:
        yield part
        os.replace(part, path)
    except BaseException:
        if part.parent.is_dir():
            part.unlink(missing_ok=True)
        raise


def stamp_of(path: str | Path) -> Stamp:
    """What tells a file from what it was before. Raises OSError."""
    found = os.stat(path)
    return found.st_size, found.st_mtime_ns, found.st_ino
