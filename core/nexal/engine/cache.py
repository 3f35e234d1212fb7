"""A store of evaluated planes, bounded in bytes: what is used stays."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Hashable
from dataclasses import dataclass

from nexal.picture import Plane, Window

NEW_SHARE = 0.25
"""Of the bytes, for what was not wanted again yet."""
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


class PlaneCache:
    """Planes by key and region; a held region serves every region inside it. Safe to share between threads.

    Most of what a drag makes is never wanted again. A plane is on trial, therefore, until it is: among others such,
    which take up to `NEW_SHARE` of the bytes, it goes when it is the oldest. One that was wanted again, or comes a
    second time, has the rest, where what was used longest ago goes first. (Johnson and Shasha, "2Q", 1994, but that
    use also proves what is still on trial.)
    """

    def __init__(self, limit: int) -> None:
        self.limit = limit
        self.hits = 0
        self.misses = 0
        self._new: OrderedDict[Entry, Plane] = OrderedDict()
        self._proven: OrderedDict[Entry, Plane] = OrderedDict()
        self._bytes = {id(self._new): 0, id(self._proven): 0}
        self._came = Remembered(MOST_REMEMBERED)
        self._regions: dict[PlaneKey, list[Window]] = {}
        self._lock = threading.Lock()

    @property
    def held(self) -> int:
        """Bytes of all planes."""
        return sum(self._bytes.values())

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

    def put(self, key: PlaneKey, region: Window, plane: Plane) -> None:
        """Keep a plane. One above half of the limit is not kept."""
        plane.setflags(write=False)
        if plane.nbytes * 2 > self.limit:
            return
        with self._lock:
            for held in [other for other in self._regions.get(key, ()) if region.contains(other)]:
                self._drop((key, held))
            entry = key, region
            self._regions.setdefault(key, []).append(region)
            self._add(self._proven if self._came.again(entry) else self._new, entry, plane)
            self._make_room()

    def _used(self, entry: Entry) -> Plane:
        if entry in self._proven:
            self._proven.move_to_end(entry)
            return self._proven[entry]
        plane = self._new.pop(entry)
        self._bytes[id(self._new)] -= plane.nbytes
        self._add(self._proven, entry, plane)
        self._make_room()
        return plane

    def _add(self, part: OrderedDict[Entry, Plane], entry: Entry, plane: Plane) -> None:
        part[entry] = plane
        self._bytes[id(part)] += plane.nbytes

    def _make_room(self) -> None:
        while len(self._new) > 1 and self._bytes[id(self._new)] > self.limit * NEW_SHARE:
            self._drop(next(iter(self._new)))
        while self.held > self.limit:
            self._drop(next(iter(self._proven or self._new)))

    def _drop(self, entry: Entry) -> None:
        part = self._new if entry in self._new else self._proven
        self._bytes[id(part)] -= part.pop(entry).nbytes
        key, region = entry
        regions = self._regions[key]
        regions.remove(region)
        if not regions:
            del self._regions[key]

    def clear(self) -> None:
        with self._lock:
            self._new.clear()
            self._proven.clear()
            self._bytes = dict.fromkeys(self._bytes, 0)
            self._regions.clear()
