"""A store of evaluated planes, bounded in bytes: what is used stays."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Hashable
from dataclasses import dataclass

from nexal.picture import Plane, Window

TRIAL_SHARE = 0.25
"""Of the bytes, for what is on trial."""
MOST_REMEMBERED = 4096
"""Planes that came and went which are known again."""


@dataclass(frozen=True, slots=True)
class PlaneKey:
    """One channel of one result at one proxy scale (its denominator)."""

    digest: str
    scale: int
    channel: str


class Remembered:
    """Which keys were met lately: the last `most` of them. Safe to share between threads."""

    def __init__(self, most: int) -> None:
        self.most = most
        self._keys: OrderedDict[Hashable, None] = OrderedDict()
        self._lock = threading.Lock()

    def again(self, key: Hashable) -> bool:
        """Whether a key was met before; from now on it was."""
        with self._lock:
            known = key in self._keys
            self._keys[key] = None
            self._keys.move_to_end(key)
            if len(self._keys) > self.most:
                self._keys.popitem(last=False)
            return known


Entry = tuple[PlaneKey, Window]


class _Part(OrderedDict[Entry, Plane]):
    """Planes of one standing, the one that goes next first, and their bytes."""

    def __init__(self) -> None:
        super().__init__()
        self.bytes = 0

    def add(self, entry: Entry, plane: Plane) -> None:
        self[entry] = plane
        self.bytes += plane.nbytes

    def take(self, entry: Entry) -> Plane:
        plane = self.pop(entry)
        self.bytes -= plane.nbytes
        return plane


class PlaneCache:
    """Planes by key and region; a held region serves every region inside it. Safe to share between threads.

    What was used longest ago goes first. Most of what a drag makes is never wanted again, though: a plane that is put
    here on trial is among others such, which take up to `TRIAL_SHARE` of the bytes, until it is wanted. One that was
    there before, and went, is on trial no more. (After Johnson and Shasha, "2Q", 1994.)
    """

    def __init__(self, limit: int) -> None:
        self.limit = limit
        self.hits = 0
        self.misses = 0
        self._trial, self._proven = _Part(), _Part()
        self._came = Remembered(MOST_REMEMBERED)
        self._regions: dict[PlaneKey, list[Window]] = {}
        self._lock = threading.Lock()

    @property
    def held(self) -> int:
        """Bytes of all planes."""
        return self._trial.bytes + self._proven.bytes

    def find(self, key: PlaneKey, region: Window) -> Plane | None:
        """The plane over exactly `region`, as a read-only view, or None."""
        with self._lock:
            for held in self._regions.get(key, ()):
                if held.contains(region):
                    self.hits += 1
                    plane = self._used((key, held))
                    return plane if held == region else plane[region.within(held)]
            self.misses += 1
        return None

    def has(self, key: PlaneKey, region: Window) -> bool:
        """Whether `find` would find it. Does not count as use."""
        with self._lock:
            return any(held.contains(region) for held in self._regions.get(key, ()))

    def put(self, key: PlaneKey, region: Window, plane: Plane, *, trial: bool = False) -> None:
        """Keep a plane. One above half of the limit is not kept."""
        plane.setflags(write=False)
        if plane.nbytes * 2 > self.limit:
            return
        entry = key, region
        with self._lock:
            for held in [other for other in self._regions.get(key, ()) if region.contains(other)]:
                self._drop((key, held))
            self._regions.setdefault(key, []).append(region)
            known = trial and self._came.again(entry)
            (self._trial if trial and not known else self._proven).add(entry, plane)
            while len(self._trial) > 1 and self._trial.bytes > self.limit * TRIAL_SHARE:
                self._drop(next(iter(self._trial)))
            while self.held > self.limit:
                self._drop(next(iter(self._proven or self._trial)))

    def _used(self, entry: Entry) -> Plane:
        part = self._trial if entry in self._trial else self._proven
        plane = part.take(entry)
        self._proven.add(entry, plane)
        return plane

    def _drop(self, entry: Entry) -> None:
        (self._trial if entry in self._trial else self._proven).take(entry)
        key, region = entry
        regions = self._regions[key]
        regions.remove(region)
        if not regions:
            del self._regions[key]

    def clear(self) -> None:
        with self._lock:
            self._trial, self._proven = _Part(), _Part()
            self._regions.clear()
