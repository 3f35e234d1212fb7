"""The newest request of each view cancels the one before it, in whichever process of the server that is worked at.

A file of entries, mapped into every process: a view has an entry by its name, and a request the number that it put
there. Once another number stands there, the request is out of date.
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
from django.http import HttpRequest

from nexal.engine import Cancellation
from nexal.errors import Cancelled

GROUPS, IN_GROUP = 1 << 11, 16
"""An entry is one of a group, by the view's name. Where a group is full, the view that asked longest ago loses its
entry: its request, if it still runs, is cancelled by nobody any more."""
_NAME = struct.Struct("<16s")
_NUMBER = struct.Struct("<Q")
_ENTRY = _NAME.size + _NUMBER.size
_GROUP = IN_GROUP * _ENTRY


class Turns:
    """Names of views with numbers that every process sees."""

    def __init__(self, path: Path) -> None:
        path.parent.mkdir(parents=True, exist_ok=True)
        self._file = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        size = GROUPS * _GROUP
        if os.fstat(self._file).st_size < size:
            os.ftruncate(self._file, size)
        self._map = mmap.mmap(self._file, size)
        # The kernel's locks keep processes apart, not the threads of one.
        self._lock = threading.Lock()

    def take(self, view: str) -> tuple[bytes, int, int]:
        """The next number of a view, now standing in its entry: its name there, where that is, and the number."""
        name = hashlib.blake2b(view.encode(errors="surrogatepass"), digest_size=_NAME.size).digest()
        group = int.from_bytes(name[:8], "little") % GROUPS * _GROUP
        places = range(group, group + _GROUP, _ENTRY)
        with self._lock:
            fcntl.lockf(self._file, fcntl.LOCK_EX, _GROUP, group)
            try:
                numbers = {place: self._number(place) for place in places}
                own = next((place for place in places if self._name(place) == name), None)
                # The least number is the oldest of the group, or an entry that is free.
                place = min(places, key=numbers.__getitem__) if own is None else own
                number = (max(numbers.values()) + 1) % (1 << 63)
                if own is None:
                    # The name first: whoever had the entry sees that it is theirs no more.
                    _NAME.pack_into(self._map, place, name)
                _NUMBER.pack_into(self._map, place + _NAME.size, number)
            finally:
                fcntl.lockf(self._file, fcntl.LOCK_UN, _GROUP, group)
        return name, place, number

    def is_past(self, name: bytes, place: int, number: int) -> bool:
        """Whether a view has taken a later number."""
        return self._number(place) != number and self._name(place) == name

    def _name(self, place: int) -> bytes:
        found: bytes = _NAME.unpack_from(self._map, place)[0]
        return found

    def _number(self, place: int) -> int:
        return int(_NUMBER.unpack_from(self._map, place + _NAME.size)[0])


class TurnCancellation(Cancellation):
    """Set once another request of the same view has taken its turn."""

    def __init__(self, turns: Turns, view: str) -> None:
        super().__init__()
        self._turns = turns
        self._turn = turns.take(view)

    def check(self) -> None:
        super().check()
        if self._turns.is_past(*self._turn):
            raise Cancelled("was given up for a newer request")


@cache
def turns() -> Turns:
    return Turns(Path(settings.NEXAL_TURNS))


def newest(request: HttpRequest, *view: Any) -> Cancellation:
    """For a request of a view, named by what it shows: that of the same page before it is out of date from now on."""
    # Two pages of one person look at the same things, each for itself.
    page = request.headers.get("X-Nexal-Page", "")[:40]
    return TurnCancellation(turns(), repr((request.session.session_key, page, *view)))
