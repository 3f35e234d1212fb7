"""What was found out about the picture solved last, kept for a while: what is asked next is mostly about it."""

from __future__ import annotations

import threading
from hashlib import blake2b
from typing import Any, Generic, TypeVar

import numpy as np

MOST_BYTES, SECONDS = 400 << 20, 120.0
"""What is kept at the most, and for how long."""

T = TypeVar("T")


def key_of(*parts: Any) -> bytes:
    """A key of arrays and of what `repr` tells apart."""
    key = blake2b(digest_size=16)
    for part in parts:
        key.update(np.ascontiguousarray(part).data if isinstance(part, np.ndarray) else repr(part).encode())
        key.update(b"|")
    return key.digest()


class Shelf(Generic[T]):
    """Holds one thing at a time. It is safe with threads: what is taken is gone until it is put back."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._key = b""
        self._held: T | None = None
        self._timer: threading.Timer | None = None

    def take(self, key: bytes) -> T | None:
        """What was put under a key, if it is still there: it is the taker's, who puts it back."""
        with self._lock:
            held = self._held if key == self._key else None
            if held is not None:
                self._drop()
            return held

    def put(self, key: bytes, held: T, nbytes: int) -> None:
        """In place of what is there, unless it is too large."""
        if nbytes > MOST_BYTES:
            return
        with self._lock:
            self._drop()
            self._key, self._held = key, held
            self._timer = threading.Timer(SECONDS, self._expire, (held,))
            self._timer.daemon = True
            self._timer.start()

    def _drop(self) -> None:
        self._held = None
        if self._timer is not None:
            self._timer.cancel()

    def _expire(self, held: T) -> None:
        with self._lock:
            if held is self._held:
                self._held = None
