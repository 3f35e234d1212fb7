"""Work spread over threads: kernels run without the interpreter's lock."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from functools import cache
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

Part = TypeVar("Part")
Result = TypeVar("Result")


THREADS = os.cpu_count() or 2


@cache
def _pool() -> ThreadPoolExecutor:
    return ThreadPoolExecutor(THREADS, thread_name_prefix="nexal-kernel")


def spread(work: Callable[[Part], Result], parts: Iterable[Part]) -> list[Result]:
    """The result of each part, in order."""
    several = list(parts)
    if len(several) == 1:
        return [work(several[0])]
    return list(_pool().map(work, several))


def bands(length: int, least: int) -> list[tuple[int, int]]:
    """Rows (or columns) from the first to before the last of each part of a plane that `spread` does at a time: two for
    each thread, of `least` at the least."""
    size = max(least, -(-length // (2 * THREADS)))
    return [(first, min(first + size, length)) for first in range(0, length, size)]


COPIED_TOGETHER = 1 << 20
"""Bytes from which on a copy is shared out."""


def copy(source: NDArray[Any], target: NDArray[Any]) -> None:
    """Copy an array H x W into another of its size, on all threads where it is large."""
    if source.nbytes < COPIED_TOGETHER:
        np.copyto(target, source)
    else:
        spread(lambda band: np.copyto(target[slice(*band)], source[slice(*band)]), bands(source.shape[0], 16))
