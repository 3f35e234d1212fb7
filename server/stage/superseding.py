"""The newest request of each view cancels the one before it, in whichever process of the server that is worked at.

A file of numbers, mapped into every process: a view has a place in it by its name, and a request the number that it
put there. Once another number stands there, the request is out of date.
"""

import fcntl
import hashlib
import mmap
import os
import struct
import threading
from functools import cache
from pathlib import Path
from typing import Any

from django.conf import settings

from nexal.engine import Cancellation
from nexal.errors import Cancelled

PLACES = 1 << 16
"""Two views share a place once in so many; then they take each other's turn, and the browser asks again."""
_NUMBER = struct.Struct("<Q")


class Turns:
    """Numbers that every process sees."""

    def __init__(self, path: Path) -> None:
        path.parent.mkdir(parents=True, exist_ok=True)
        self._file = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        size = PLACES * _NUMBER.size
        if os.fstat(self._file).st_size < size:
            os.ftruncate(self._file, size)
        self._map = mmap.mmap(self._file, size)
        # The kernel's locks keep processes apart, not the threads of one.
        self._lock = threading.Lock()

    def take(self, place: int) -> int:
        """The next number of a place, now standing there."""
        with self._lock:
            fcntl.lockf(self._file, fcntl.LOCK_EX, _NUMBER.size, place * _NUMBER.size)
            try:
                number = (self.number(place) + 1) % (1 << 63)
                _NUMBER.pack_into(self._map, place * _NUMBER.size, number)
            finally:
                fcntl.lockf(self._file, fcntl.LOCK_UN, _NUMBER.size, place * _NUMBER.size)
        return number

    def number(self, place: int) -> int:
        return int(_NUMBER.unpack_from(self._map, place * _NUMBER.size)[0])


class TurnCancellation(Cancellation):
    """Set once another request has taken the turn."""

    def __init__(self, turns: Turns, place: int) -> None:
        super().__init__()
        self._turns, self._place = turns, place
        self._mine = turns.take(place)

    def check(self) -> None:
        super().check()
        if self._turns.number(self._place) != self._mine:
            raise Cancelled("was given up for a newer request")


@cache
def turns() -> Turns:
    return Turns(Path(settings.NEXAL_TURNS))


def newest(*view: Any) -> Cancellation:
    """For a request of a view, named by whose it is and what it shows: the one before it is out of date from now on."""
    name = repr(view).encode()
    place = int.from_bytes(hashlib.blake2b(name, digest_size=8).digest(), "little") % PLACES
    return TurnCancellation(turns(), place)
