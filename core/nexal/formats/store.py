"""The plane store: decoded files by fingerprint, kept within a budget."""

from __future__ import annotations

import fcntl
import hashlib
import os
import shutil
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from nexal.errors import FormatError
from nexal.formats.decoding import decode_file
from nexal.formats.stored import COMPLETE, StoredFile


def fingerprint(path: Path) -> str:
    """BLAKE2b-256 of a file's bytes, as hexadecimal digits."""
    digest = hashlib.blake2b(digest_size=32)
    with path.open("rb") as file:
        while block := file.read(1 << 20):
            digest.update(block)
    return digest.hexdigest()


@contextmanager
def _alone(path: Path) -> Iterator[None]:
    """One thread of one process at a time, among all that name the same file. The file is gone afterwards."""
    path.parent.mkdir(parents=True, exist_ok=True)
    while True:
        with path.open("w") as file:
            fcntl.flock(file, fcntl.LOCK_EX)
            # Whoever held it before may have taken the file away meanwhile: then there is another one to wait for.
            if not path.exists() or path.stat().st_ino != os.fstat(file.fileno()).st_ino:
                continue
            try:
                yield
            finally:
                path.unlink(missing_ok=True)
            return


class Library:
    """Decoded files by fingerprint below one folder, kept within a budget of bytes. The originals can rebuild it."""

    def __init__(self, folder: Path, budget: int = 64 << 30) -> None:
        self.folder = folder
        self.budget = budget

    def stored(self, digest: str) -> StoredFile:
        return StoredFile(self.folder / digest)

    def unpack(self, path: Path, digest: str, cancelled: Callable[[], bool] = lambda: False) -> StoredFile:
        """The decoded file, decoding it first where it is not there whole. Raises FormatError."""
        stored = self.stored(digest)
        with _alone(self.folder / f"{digest}.lock"):
            if stored.complete:
                os.utime(stored.folder)
                return stored
            shutil.rmtree(stored.folder, ignore_errors=True)
            try:
                decode_file(path, stored.folder, cancelled)
            except FormatError:
                shutil.rmtree(stored.folder, ignore_errors=True)
                raise
        self.trim(keep=digest)
        return StoredFile(stored.folder)

    def trim(self, keep: str = "") -> None:
        """Drop what was used longest ago until the budget is kept."""
        entries = sorted((entry for entry in self.folder.iterdir() if entry.is_dir()), key=lambda e: e.stat().st_mtime)
        sizes = {entry: sum(file.stat().st_size for file in entry.iterdir()) for entry in entries}
        total = sum(sizes.values())
        for entry in entries:
            if total <= self.budget:
                return
            if entry.name != keep and (entry / COMPLETE).exists():
                shutil.rmtree(entry, ignore_errors=True)
                total -= sizes[entry]
