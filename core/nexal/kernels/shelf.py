"""What was found out about the pictures solved last, kept for a while: what is asked next is mostly about them."""

from __future__ import annotations

import threading
from collections import OrderedDict
from hashlib import blake2b
from typing import Any, Generic, TypeVar

import numpy as np

MOST_BYTES, MOST_HELD, SECONDS = 400 << 20, 8, 120.0
"""What is kept at the most, in bytes and in things, and for how long."""

T = TypeVar("T")


def key_of(*parts: Any) -> bytes:
    """A key of arrays and of what `repr` tells apart."""
    key = blake2b(digest_size=16)
    for part in parts:
        key.update(np.ascontiguousarray(part).data if isinstance(part, np.ndarray) else repr(part).encode())
        key.update(b"|")
    return key.digest()


class Shelf(Generic[T]):
    """Holds what was put last. It is safe with threads: what is taken is gone until it is put back."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._held: OrderedDict[bytes, tuple[T, int, threading.Timer]] = OrderedDict()

    def take(self, key: bytes) -> T | None:
        """What was put under a key, if it is still there: it is the taker's, who puts it back."""
        with self._lock:
            return self._drop(key)

    def put(self, key: bytes, held: T, nbytes: int) -> None:
        """In place of what was put under that key, and of the oldest, unless it is too large."""
        if nbytes > MOST_BYTES:
            return
        with self._lock:
            self._drop(key)
            while self._held and (len(self._held) >= MOST_HELD or self._bytes() + nbytes > MOST_BYTES):
                self._drop(next(iter(self._held)))
            timer = threading.Timer(SECONDS, self._expire, (key, held))
            timer.daemon = True
            self._held[key] = (held, nbytes, timer)
            timer.start()

    def _bytes(self) -> int:
        return sum(nbytes for _, nbytes, _ in self._held.values())

    def _drop(self, key: bytes) -> T | None:
        held = self._held.pop(key, None)
        if held is None:
            return None
        held[2].cancel()
        return held[0]

    def _expire(self, key: bytes, held: T) -> None:
        with self._lock:
            if key in self._held and self._held[key][0] is held:
                self._drop(key)
