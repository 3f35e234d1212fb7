"""The coverage of picked ids."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray

from nexal.kernels.threads import spread
from nexal.picture import Plane

ROWS = 64


@numba.njit(cache=True, nogil=True)
def _is_among(value: float, wanted: NDArray[np.float64], within: float) -> bool:
    """Whether a sorted list holds a number closer than `within`, or that very number where it is 0."""
    low, high = 0, wanted.size
    while low < high:
        middle = (low + high) // 2
        if wanted[middle] < value:
            low = middle + 1
        else:
            high = middle
    if low < wanted.size and (wanted[low] == value or wanted[low] - value < within):
        return True
    return bool(low > 0 and value - wanted[low - 1] < within)


@numba.njit(cache=True, nogil=True)
def _numbers(ids: Any, wanted: NDArray[np.float64], top: int, bottom: int, out: Plane) -> None:
    for y in range(top, bottom):
        for x in range(ids.shape[1]):
            value = ids[y, x]
            out[y, x] = 1.0 if value == value and _is_among(value, wanted, 0.5) else 0.0


@numba.njit(cache=True, nogil=True)
def _ranks(ids: Any, cover: Any, wanted: NDArray[np.float64], top: int, bottom: int, out: Plane) -> None:
    for y in range(top, bottom):
        before = np.float64(0)
        found = False
        for x in range(ids.shape[1]):
            share = cover[y, x]
            if share > 0:
                # Neighbours are mostly of one thing.
                value = np.float64(ids[y, x])
                if value != before or x == 0:
                    before = value
                    found = _is_among(value, wanted, 0.0)
                if found:
                    out[y, x] += share


def number_cover(ids: NDArray[np.floating[Any]], wanted: NDArray[np.float64]) -> Plane:
    """1 where a number lies within half of one that is wanted (sorted), else 0: H x W."""
    result = np.zeros(ids.shape, np.float32)
    if wanted.size:
        rows = ids.shape[0]
        spread(lambda top: _numbers(ids, wanted, top, min(top + ROWS, rows), result), range(0, rows, ROWS))
    return result


def ranked_cover(
    pairs: Sequence[tuple[NDArray[np.floating[Any]], NDArray[np.floating[Any]]]], wanted: NDArray[np.float64]
) -> Plane:
    """The coverage of wanted ids (sorted) summed over ranks of id and coverage (each H x W), held at 1."""
    result: Plane = np.zeros_like(pairs[0][0], np.float32)
    rows = result.shape[0]

    def part(top: int) -> None:
        end = min(top + ROWS, rows)
        for ids, cover in pairs:
            _ranks(ids, cover, wanted, top, end, result)
        np.minimum(result[top:end], 1, out=result[top:end])

    if wanted.size:
        spread(part, range(0, rows, ROWS))
    return result
