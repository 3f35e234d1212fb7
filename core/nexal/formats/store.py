"""The plane store: decoded files by fingerprint, kept within a budget."""

from __future__ import annotations

import hashlib
import os
import shutil
import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Iterable, Iterator
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path

from nexal.errors import NexalError
from nexal.formats.decoding import decode_file
from nexal.formats.locks import acquire, held
from nexal.formats.stored import HEADER, StoredFile

LOCKS = "locks"
IN_USE_SECONDS = 300.0
"""How long after it was last asked for a file counts as in use."""
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


_Stamp = tuple[int, int, int]
"""Of a file: its size, when it was written in nanoseconds, its number on the disk."""


class Library:
    """Decoded files by fingerprint below one folder, kept within a budget of bytes. The originals can rebuild it.

    Safe between threads and processes. Whatever is asked for is in use for a while, which keeps its lock shared;
    only what nobody uses is dropped, and of that what was used longest ago.
    """

    def __init__(self, folder: Path, budget: int = 64 << 30, in_use_seconds: float = IN_USE_SECONDS) -> None:
        self.folder = folder
        self.budget = budget
        self.in_use_seconds = in_use_seconds
        self._uses: dict[str, tuple[int, float]] = {}
        self._known: OrderedDict[str, tuple[_Stamp, StoredFile]] = OrderedDict()
        self._known_bytes = 0
        self._known_lock = threading.Lock()
        self._lock = threading.Lock()

    def stored(self, digest: str) -> StoredFile:
        """The decoded file as far as it is there. To look at it does not count as use; see `use`.

        For as long as its header is the same one, so is the object, with what was read of it.
        """
        try:
            found = os.stat(f"{self.folder}/{digest}/{HEADER}")
        except OSError:
            return StoredFile(self.folder / digest)
        stamp = (found.st_size, found.st_mtime_ns, found.st_ino)
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
        now = time.monotonic()
        with self._lock:
            known = self._uses.get(digest)
            if known is None:
                file = acquire(self._using_path(digest), shared=True, wait=False)
                if file is not None and self.stored(digest).complete:
                    self._uses[digest] = (file, now)
                    self._touch(digest)
                elif file is not None:
                    # What is not there must not keep anybody from making it.
                    os.close(file)
            else:
                self._uses[digest] = (known[0], now)
                if now - known[1] > 1:
                    self._touch(digest)
        return self.stored(digest)

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
        if not self.use(digest).complete:
            with held(self._making_path(digest)) as lock:
                stored = self.stored(digest)
                if not stored.complete:
                    shutil.rmtree(stored.folder, ignore_errors=True)
                    try:
                        decode_file(path, stored.folder, cancelled, lock, lean, frame)
                    except NexalError:
                        shutil.rmtree(stored.folder, ignore_errors=True)
                        raise
        stored = self.use(digest)
        self.trim()
        return stored

    def trim(self) -> None:
        """Drop what was used longest ago and is in use by nobody, until the budget is kept."""
        self._let_go_of_unused()
        found = []
        with suppress(FileNotFoundError), os.scandir(self.folder) as entries:
            found = [(_used(Path(entry.path)), _size(Path(entry.path)), entry.name) for entry in entries]
        total = sum(size for _, size, _ in found)
        for _, size, digest in sorted(found):
            if total <= self.budget:
                return
            if digest != LOCKS and self._drop(digest):
                total -= size

    def _drop(self, digest: str) -> bool:
        """Delete one decoded file, unless somebody uses or makes it."""
        making = acquire(self._making_path(digest), wait=False)
        if making is None:
            return False
        using = acquire(self._using_path(digest), wait=False)
        try:
            if using is None:
                return False
            # Away under another name first: nobody finds half of it.
            away = self.folder / LOCKS / f"{digest}.{os.getpid()}-{threading.get_ident()}.gone"
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

    def close(self) -> None:
        """Nothing is in use by this library any more."""
        with self._lock:
            for file, _ in self._uses.values():
                os.close(file)
            self._uses.clear()

    def _using_path(self, digest: str) -> Path:
        """Shared by all that use a decoded file; alone by who drops it."""
        return self.folder / LOCKS / f"{digest}.using"

    def _making_path(self, digest: str) -> Path:
        """Held alone by who unpacks a file, and by who drops it."""
        return self.folder / LOCKS / f"{digest}.making"

    def _touch(self, digest: str) -> None:
        with suppress(FileNotFoundError):
            os.utime(self.folder / digest)

    def _let_go(self, digest: str) -> None:
        with self._lock:
            known = self._uses.pop(digest, None)
        if known:
            os.close(known[0])

    def _let_go_of_unused(self) -> None:
        since = time.monotonic() - self.in_use_seconds
        with self._lock:
            unused = [digest for digest, (_, used) in self._uses.items() if used <= since]
        for digest in unused:
            self._let_go(digest)


def _used(folder: Path) -> float:
    """When a decoded file was used last; long ago where it is gone."""
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
