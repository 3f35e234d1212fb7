"""A least-recently-used store of evaluated planes, bounded in bytes."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Hashable
from dataclasses import dataclass

from nexal.picture import Plane, Window


@dataclass(frozen=True, slots=True)
class PlaneKey:
    """One channel of one result at one proxy scale (its denominator)."""

    digest: str
    scale: int
    channel: str


class Remembered:
    """Which keys were asked for lately: the last `most` of them. Safe to share between threads."""

    def __init__(self, most: int) -> None:
        self.most = most
        self._keys: OrderedDict[Hashable, None] = OrderedDict()
        self._lock = threading.Lock()

    def again(self, key: Hashable) -> bool:
        """Whether a key was asked for before; from now on it was."""
        with self._lock:
            known = key in self._keys
            self._keys[key] = None
            self._keys.move_to_end(key)
            if len(self._keys) > self.most:
                self._keys.popitem(last=False)
            return known


class PlaneCache:
    """Planes by key and region; a held region serves every region inside it. Safe to share between threads."""

    def __init__(self, limit: int) -> None:
        self.limit = limit
        self.held = 0
        self.hits = 0
        self.misses = 0
        self._entries: OrderedDict[tuple[PlaneKey, Window], Plane] = OrderedDict()
        self._regions: dict[PlaneKey, list[Window]] = {}
        self._lock = threading.Lock()

    def find(self, key: PlaneKey, region: Window) -> Plane | None:
        """The plane over exactly `region`, as a read-only view, or None."""
        with self._lock:
            for held in self._regions.get(key, ()):
                if held.contains(region):
                    self.hits += 1
                    self._entries.move_to_end((key, held))
                    plane = self._entries[key, held]
                    return plane if held == region else plane[region.within(held)]
            self.misses += 1
        return None

    def has(self, key: PlaneKey, region: Window) -> bool:
        """Whether `find` would find it. Does not count as use."""
        with self._lock:
            return any(held.contains(region) for held in self._regions.get(key, ()))

    def put(self, key: PlaneKey, region: Window, plane: Plane) -> None:
        """Keep a plane; what was used longest ago goes first. A plane above half of the limit is not kept."""
        plane.setflags(write=False)
        if plane.nbytes * 2 > self.limit:
            return
        with self._lock:
            for held in [other for other in self._regions.get(key, ()) if region.contains(other)]:
                self._drop(key, held)
            self._entries[key, region] = plane
            self._regions.setdefault(key, []).append(region)
            self.held += plane.nbytes
            while self.held > self.limit:
                oldest, window = next(iter(self._entries))
                self._drop(oldest, window)

    def _drop(self, key: PlaneKey, region: Window) -> None:
        self.held -= self._entries.pop((key, region)).nbytes
        regions = self._regions[key]
        regions.remove(region)
        if not regions:
            del self._regions[key]

    def clear(self) -> None:
        with self._lock:
            self._entries.clear()
            self._regions.clear()
            self.held = 0
