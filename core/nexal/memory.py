"""Memory of planes, used again.

A page of memory that the system hands out is made and cleared when it is first written to. That takes up to ten times
as long as the writing itself, and most of the time of a view. What planes have left is kept for the next ones, up to
a bound, therefore.
"""

from __future__ import annotations

import math
import threading
from collections import deque
from typing import Any

import numpy as np
from numpy.typing import DTypeLike, NDArray

LEAST = 1 << 18
"""Bytes of an array that is worth it."""
LIMIT = 256 << 20
"""Bytes that wait to be used again, of a process."""
ALIGNED = 64
_STEPS = 8
"""Sizes between one power of two and the next: an array takes up to an eighth more than it needs."""


class _Block:
    """The memory of one array. It is given back when neither that nor any view of it is left."""

    __slots__ = ("__array_interface__", "_memory", "_pool")

    def __init__(self, memory: NDArray[np.uint8], shape: tuple[int, ...], kind: np.dtype[Any], pool: Pool) -> None:
        self._memory, self._pool = memory, pool
        address = memory.__array_interface__["data"][0]
        aligned = -(-address // ALIGNED) * ALIGNED
        self.__array_interface__ = {"shape": shape, "typestr": kind.str, "data": (aligned, False), "version": 3}

    def __del__(self) -> None:
        self._pool.give(self._memory)


class Pool:
    """Memory that arrays have left, up to `limit` bytes; what was left longest ago goes first. Safe between threads."""

    def __init__(self, limit: int) -> None:
        self.limit = limit
        self.held = 0
        self._free: list[NDArray[np.uint8]] = []
        self._given: deque[NDArray[np.uint8]] = deque()
        self._lock = threading.Lock()

    def empty(self, shape: tuple[int, ...], kind: DTypeLike = np.float32) -> NDArray[Any]:
        """An array of any content, in rows one after the other."""
        dtype = np.dtype(kind)
        size = math.prod(shape) * dtype.itemsize
        if size < LEAST:
            return np.empty(shape, dtype)
        size = _rounded(size) + ALIGNED
        memory = self._taken(size)
        return np.asarray(_Block(np.empty(size, np.uint8) if memory is None else memory, shape, dtype, self))

    def give(self, memory: NDArray[np.uint8]) -> None:
        """Take memory that nobody refers to any more."""
        self._given.append(memory)
        # An array may end anywhere, also where this very thread is at work here: then that takes it along.
        if self._lock.acquire(blocking=False):
            try:
                self._settle()
            finally:
                self._lock.release()

    def _taken(self, size: int) -> NDArray[np.uint8] | None:
        with self._lock:
            self._settle()
            # The newest is the nearest.
            for place in range(len(self._free) - 1, -1, -1):
                if self._free[place].nbytes == size:
                    self.held -= size
                    return self._free.pop(place)
        return None

    def _settle(self) -> None:
        while self._given:
            memory = self._given.popleft()
            self._free.append(memory)
            self.held += memory.nbytes
        while self.held > self.limit:
            self.held -= self._free.pop(0).nbytes


def _rounded(size: int) -> int:
    step = 1 << (size.bit_length() - _STEPS.bit_length())
    return -(-size // step) * step


_pool = Pool(LIMIT)


def empty(shape: tuple[int, ...], kind: DTypeLike = np.float32) -> NDArray[Any]:
    """As `np.empty`, of memory that is used again."""
    return _pool.empty(shape, kind)


def is_whole(array: NDArray[Any]) -> bool:
    """Whether an array is no part of another one, nor of a file."""
    return array.base is None or isinstance(array.base, _Block)
