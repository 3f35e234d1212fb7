"""The plane store: decoded files by fingerprint, kept within a budget."""

from __future__ import annotations

import hashlib
import math
import os
import secrets
import shutil
import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Iterable, Iterator
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path

from nexal.errors import NexalError
from nexal.files import Stamp, stamp_of
from nexal.formats.decoding import decode_file
from nexal.formats.locks import acquire, held
from nexal.formats.store_index import StoreIndex
from nexal.formats.stored import HEADER, StoredFile

LOCKS, INDEX = "locks", "index.sqlite"
IN_USE_SECONDS = 300.0
"""How long after it was last asked for a file counts as in use."""
TOUCH_SECONDS = 10.0
"""How often, at the most, it is written down that a file is in use."""
DROPPED_TOGETHER = 64
"""Files that are looked for at a time where room is made."""
MOST_TOUCHED = 10_000
"""Of files, when this process wrote down last that they are in use."""
KNOWN_BYTES = 4 << 20
"""Of headers, as they lie on disk: what is known of files from them takes some ten times as much."""


def fingerprint(path: Path) -> str:
    """BLAKE2b-256 of a file's bytes, as hexadecimal digits."""
    digest = hashlib.blake2b(digest_size=32)
    with path.open("rb") as file:
        while block := file.read(1 << 20):
            digest.update(block)
    return digest.hexdigest()


def frame_digest(digest: str, number: int) -> str:
    """The name of a frame of a video in the store, by the fingerprint of the video."""
    return f"{digest}-{number}"


class Library:
    """Decoded files by fingerprint below one folder, kept within a budget of bytes. The originals can rebuild it.

    Safe between threads and processes. Whatever is asked for is in use for a while, as the index of the store says for
    all processes; only what nobody uses is dropped, and of that what was used longest ago. No file is held open for a
    decoded file that is in use, however many there are.
    """

    def __init__(self, folder: Path, budget: int = 64 << 30, in_use_seconds: float = IN_USE_SECONDS) -> None:
        self.folder = folder
        self.budget = budget
        self.in_use_seconds = in_use_seconds
        self.index = StoreIndex(folder / LOCKS / INDEX, self._entries)
        self._touched: OrderedDict[str, float] = OrderedDict()
        self._known: OrderedDict[str, tuple[Stamp, StoredFile]] = OrderedDict()
        self._known_bytes = 0
        self._known_lock = threading.Lock()
        self._lock = threading.Lock()

    def stored(self, digest: str) -> StoredFile:
        """The decoded file as far as it is there. To look at it does not count as use; see `use`.

        For as long as its header is the same one, so is the object, with what was read of it.
        """
        try:
            stamp = stamp_of(f"{self.folder}/{digest}/{HEADER}")
        except OSError:
            return StoredFile(self.folder / digest)
        with self._known_lock:
            known = self._known.pop(digest, None)
            self._known_bytes -= known[0][0] if known else 0
            if known is None or known[0] != stamp:
                known = (stamp, StoredFile(self.folder / digest))
            self._known[digest] = known
            self._known_bytes += stamp[0]
            while self._known_bytes > KNOWN_BYTES and len(self._known) > 1:
                _, (old, _) = self._known.popitem(last=False)
                self._known_bytes -= old[0]
            return known[1]

    def use(self, digest: str) -> StoredFile:
        """The decoded file, not dropped for as long as it is asked for again and again. Never waits."""
        now = time.time()
        with self._lock:
            known = self._touched.get(digest)
        if known is None or abs(now - known) > min(TOUCH_SECONDS, self.in_use_seconds / 4):
            # Who drops it holds its lock alone, and looks at the index after that: nothing goes that is in use.
            file = acquire(self._using_path(digest), shared=True, wait=False)
            if file is not None:
                try:
                    self._touch(digest, now)
                finally:
                    os.close(file)
        return self.stored(digest)

    def _touch(self, digest: str, now: float) -> None:
        """Write down that a file is in use, and how large it has become."""
        stored = self.stored(digest)
        if not stored.complete:
            return
        self.index.put(digest, _size(stored.folder), now)
        with self._lock:
            self._touched[digest] = now
            self._touched.move_to_end(digest)
            while len(self._touched) > MOST_TOUCHED:
                self._touched.popitem(last=False)

    @contextmanager
    def using(self, digests: Iterable[str]) -> Iterator[None]:
        """Keeps decoded files from being dropped, however long it takes."""
        with ExitStack() as stack:
            for digest in sorted(set(digests)):
                stack.enter_context(held(self._using_path(digest), shared=True))
            yield

    def unpack(
        self,
        path: Path,
        digest: str,
        cancelled: Callable[[], bool] = lambda: False,
        lean: bool = False,
        frame: int | None = None,
    ) -> StoredFile:
        """The decoded file (or `frame` of a video), decoding it first where it is not there whole; `lean`: see
        `unpack`. Raises FormatError, DiskError."""
        stored = self.use(digest)
        if not stored.complete:
            with held(self._making_path(digest)) as lock:
                stored = self.stored(digest)
                if not stored.complete:
                    shutil.rmtree(stored.folder, ignore_errors=True)
                    try:
                        decode_file(path, stored.folder, cancelled, lock, lean, frame)
                    except NexalError:
                        shutil.rmtree(stored.folder, ignore_errors=True)
                        raise
            with self.using([digest]):
                self._touch(digest, time.time())
                self.trim()
        return self.stored(digest)

    def trim(self) -> None:
        """Drop what was used longest ago and is in use by nobody, until the budget is kept."""
        since = time.time() - self.in_use_seconds
        refused: set[str] = set()
        while (over := self.index.total() - self.budget) > 0:
            rows = self.index.unused(since, DROPPED_TOGETHER + len(refused))
            candidates = [(digest, size) for digest, size in rows if digest not in refused]
            if not candidates:
                return
            for digest, size in candidates:
                if over <= 0:
                    break
                if self._drop(digest, since):
                    over -= size
                else:
                    refused.add(digest)

    def forget(self, digest: str) -> None:
        """Delete a decoded file that may hold something else than its name says, whoever uses it."""
        with held(self._making_path(digest)), self._lock:
            self._touched.pop(digest, None)
            self.index.take_out(digest, math.inf)
            shutil.rmtree(self.folder / digest, ignore_errors=True)

    def _drop(self, digest: str, since: float = math.inf) -> bool:
        """Delete one decoded file, unless somebody makes it, holds it, or used it after a time."""
        making = acquire(self._making_path(digest), wait=False)
        if making is None:
            return False
        using = acquire(self._using_path(digest), wait=False)
        try:
            if using is None or not self.index.take_out(digest, since):
                return False
            # Away under another name first: nobody finds half of it.
            away = self.folder / LOCKS / f"{digest}.{secrets.token_hex(8)}.gone"
            with suppress(FileNotFoundError):
                (self.folder / digest).rename(away)
            shutil.rmtree(away, ignore_errors=True)
            self._using_path(digest).unlink(missing_ok=True)
            self._making_path(digest).unlink(missing_ok=True)
            return True
        finally:
            for file in (using, making):
                if file is not None:
                    os.close(file)

    def _entries(self) -> Iterator[tuple[str, int, float]]:
        """What the folders hold: digest, bytes, and when it was written."""
        with suppress(FileNotFoundError), os.scandir(self.folder) as entries:
            for entry in entries:
                if entry.name != LOCKS:
                    yield entry.name, _size(Path(entry.path)), _written(Path(entry.path))

    def clear(self) -> None:
        """Delete what killed processes left: halves that nobody writes, and locks of what is not there."""
        for gone in (self.folder / LOCKS).glob("*.gone"):
            shutil.rmtree(gone, ignore_errors=True)
        for path in (self.folder / LOCKS).glob("*.making"):
            digest = path.stem
            making = acquire(path, wait=False)
            if making is None:
                continue
            stored = self.stored(digest)
            if not stored.complete:
                shutil.rmtree(stored.folder, ignore_errors=True)
                using = acquire(self._using_path(digest), wait=False)
                if using is not None:
                    self._using_path(digest).unlink(missing_ok=True)
                    os.close(using)
                path.unlink(missing_ok=True)
            os.close(making)
        self.index.compare()

    def close(self) -> None:
        """Give back what is held open."""
        self.index.close()

    def _using_path(self, digest: str) -> Path:
        """Shared by all that use a decoded file; alone by who drops it."""
        return self.folder / LOCKS / f"{digest}.using"

    def _making_path(self, digest: str) -> Path:
        """Held alone by who unpacks a file, and by who drops it."""
        return self.folder / LOCKS / f"{digest}.making"


def _written(folder: Path) -> float:
    """When a decoded file was written; long ago where it is gone."""
    with suppress(FileNotFoundError):
        return folder.stat().st_mtime
    return 0.0


def _size(folder: Path) -> int:
    """Bytes of the files in a folder, as far as they are there while it is looked at."""
    total = 0
    with suppress(FileNotFoundError, NotADirectoryError), os.scandir(folder) as entries:
        for entry in entries:
            with suppress(FileNotFoundError):
                total += entry.stat().st_size
    return total
