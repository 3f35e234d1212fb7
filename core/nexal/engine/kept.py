"""Results of slow operations, kept on disk so that they outlive the cache and the process."""

from __future__ import annotations

import hashlib
import os
import threading
from contextlib import suppress
from pathlib import Path

import numpy as np

from nexal.errors import NO_ROOM
from nexal.files import written_whole
from nexal.picture import Plane


class Kept:
    """Planes by key in a folder, bounded in bytes: what was used longest ago goes first. Safe between threads."""

    def __init__(self, folder: Path, limit: int) -> None:
        self.folder = folder
        self.limit = limit
        self._lock = threading.Lock()

    def find(self, key: str) -> Plane | None:
        """The plane, or None where it is not kept or its file is damaged."""
        path = self._path(key)
        try:
            plane: Plane = np.load(path)
            os.utime(path)
        except (OSError, ValueError, EOFError):
            return None
        return plane

    def has(self, key: str) -> bool:
        return self._path(key).exists()

    def put(self, key: str, plane: Plane) -> None:
        """Write the plane, whole or not at all.

        A disk without room keeps nothing, and nobody from their result.
        """
        self.folder.mkdir(parents=True, exist_ok=True)
        try:
            with written_whole(self._path(key)) as unfinished, unfinished.open("wb") as file:
                np.save(file, plane)
        except OSError as error:
            if error.errno not in NO_ROOM:
                raise
        with self._lock:
            self._shrink()

    def _path(self, key: str) -> Path:
        # Keys hold names of channels, which may be anything.
        return self.folder / f"{hashlib.sha256(key.encode(errors='surrogatepass')).hexdigest()}.npy"

    def _shrink(self) -> None:
        found = []
        for file in self.folder.glob("*.npy"):
            with suppress(FileNotFoundError):
                found.append((file.stat().st_mtime, file.stat().st_size, file))
        found.sort()
        held = sum(size for _, size, _ in found)
        for _, size, file in found[:-1]:
            if held <= self.limit:
                return
            file.unlink(missing_ok=True)
            held -= size
