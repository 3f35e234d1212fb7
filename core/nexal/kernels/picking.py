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
    place = np.searchsorted(wanted, value)
    if place < wanted.size and (wanted[place] == value or wanted[place] - value < within):
        return True
    return bool(place > 0 and value - wanted[place - 1] < within)


@numba.njit(cache=True, nogil=True)
def _numbers(ids: NDArray[np.float64], wanted: NDArray[np.float64], top: int, bottom: int, out: Plane) -> None:
    for y in range(top, bottom):
        for x in range(ids.shape[1]):
            value = ids[y, x]
            out[y, x] = 1.0 if value == value and _is_among(value, wanted, 0.5) else 0.0


@numba.njit(cache=True, nogil=True)
def _ranks(
    ids: NDArray[np.float64], cover: NDArray[np.float64], wanted: NDArray[np.float64], top: int, bottom: int, out: Plane
) -> None:
    for y in range(top, bottom):
        for x in range(ids.shape[1]):
            share = cover[y, x]
            if share > 0 and _is_among(ids[y, x], wanted, 0.0):
                out[y, x] += share


def number_cover(ids: NDArray[np.floating[Any]], wanted: NDArray[np.float64]) -> Plane:
    """1 where a number lies within half of one that is wanted (sorted), else 0: H x W."""
    numbers = ids.astype(np.float64, copy=False)
    result = np.zeros(ids.shape, np.float32)
    if wanted.size:
        rows = ids.shape[0]
        spread(lambda top: _numbers(numbers, wanted, top, min(top + ROWS, rows), result), range(0, rows, ROWS))
    return result


def ranked_cover(
    pairs: Sequence[tuple[NDArray[np.floating[Any]], NDArray[np.floating[Any]]]], wanted: NDArray[np.float64]
) -> Plane:
    """The coverage of wanted ids (sorted) summed over ranks of id and coverage (each H x W), held at 1."""
    result: Plane = np.zeros_like(pairs[0][0], np.float32)
    rows = result.shape[0]
    if wanted.size:
        for ids, cover in pairs:
            numbers, shares = ids.astype(np.float64, copy=False), cover.astype(np.float64, copy=False)

            def part(top: int, numbers: Any = numbers, shares: Any = shares) -> None:
                _ranks(numbers, shares, wanted, top, min(top + ROWS, rows), result)

            spread(part, range(0, rows, ROWS))
    return np.minimum(result, 1)
