"""Colour carried outward to the pixels that have none."""

from __future__ import annotations

import math

import numba
import numpy as np
from numpy.typing import NDArray

from nexal.kernels.threads import bands, spread
from nexal.memory import empty
from nexal.picture import Plane

FAR = 1 << 30
ROWS = 128
"""Rows, or columns, that a thread does at a time, at the least."""


@numba.njit(cache=True, nogil=True)
def _nearest_rows(known: NDArray[np.bool_], rows: NDArray[np.int32], first: int, last: int) -> None:
    """Of the columns `first` to `last`, for each pixel the nearest known row in its column, the one above where two
    are as near; -1 where there is none. Row by row, as memory lies."""
    height, count = known.shape[0], last - first
    near = np.full(count, -FAR, np.int32)
    for y in range(height):
        given, found = known[y, first:last], rows[y, first:last]
        for x in range(count):
            near[x] = y if given[x] else near[x]
            found[x] = near[x]
    near[:] = FAR
    for y in range(height - 1, -1, -1):
        given, found = known[y, first:last], rows[y, first:last]
        for x in range(count):
            near[x] = y if given[x] else near[x]
            above, below = found[x], near[x]
            nearer = below if below - y < y - above else above
            found[x] = nearer if nearer >= 0 and nearer < FAR else -1


@numba.njit(cache=True, nogil=True)
def _nearest_columns(rows: NDArray[np.int32], columns: NDArray[np.int32], first: int, last: int) -> None:
    """Of the rows `first` to `last`: the nearest known pixel, from the nearest known row of each column, by the lower
    envelope of the parabolas (x - v)^2 + (y - row[v])^2."""
    width = rows.shape[1]
    place = np.empty(width, np.int32)
    start = np.empty(width + 1, np.float64)
    own = np.empty(width, np.int32)
    for y in range(first, last):
        count = 0
        for x in range(width):
            own[x] = rows[y, x]
            if own[x] < 0:
                continue
            if own[x] == y and count > 0 and place[count - 1] == x - 1 and own[x - 1] == y:
                # Of two neighbours in the row itself the border lies between them.
                place[count] = x
                start[count] = x - 0.5
                count += 1
                continue
            f = float(own[x] - y) ** 2 + float(x) * x
            begin = -1e18
            while count > 0:
                v = place[count - 1]
                begin = (f - (float(own[v] - y) ** 2 + float(v) * v)) / (2.0 * (x - v))
                if begin > start[count - 1]:
                    break
                count -= 1
                begin = -1e18
            place[count] = x
            start[count] = begin
            count += 1
        start[count] = 1e18
        at = 0
        for x in range(width):
            if count == 0:
                columns[y, x] = -1
                continue
            while start[at + 1] < x:
                at += 1
            columns[y, x] = place[at]
            rows[y, x] = own[place[at]]


@numba.njit(cache=True, nogil=True)
def _fill(
    plane: Plane,
    known: NDArray[np.bool_],
    rows: NDArray[np.int32],
    columns: NDArray[np.int32],
    result: Plane,
    first: int,
    last: int,
) -> None:
    for y in range(first, last):
        for x in range(plane.shape[1]):
            result[y, x] = plane[y, x] if known[y, x] else plane[rows[y, x], columns[y, x]]


@numba.njit(cache=True, nogil=True)
def _near_enough(
    rows: NDArray[np.int32], columns: NDArray[np.int32], most: float, result: NDArray[np.bool_], first: int, last: int
) -> None:
    for y in range(first, last):
        for x in range(rows.shape[1]):
            result[y, x] = math.hypot(rows[y, x] - y, columns[y, x] - x) <= most


def nearest_known(known: NDArray[np.bool_]) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    """Row and column of the nearest pixel of a mask, for each pixel, exactly; -1 where the mask is empty.

    References: Felzenszwalb, Huttenlocher, *Distance transforms of sampled functions*, Theory of Computing 8, 2012.
    """
    known = np.ascontiguousarray(known)
    rows, columns = (empty(known.shape, np.int32) for _ in range(2))
    spread(lambda band: _nearest_rows(known, rows, *band), bands(known.shape[1], ROWS))
    spread(lambda band: _nearest_columns(rows, columns, *band), bands(known.shape[0], ROWS))
    return rows, columns


def carried(planes: list[Plane], known: NDArray[np.bool_], distance: float, sigma: float) -> list[Plane]:
    """Planes whose unknown pixels within `distance` take the nearest known value, smoothed by a Gaussian there.

    Known pixels, and those further away, keep their values.
    """
    from nexal.kernels.filters import blur, gaussian_weights

    if known.all() or not known.any():
        return planes
    known = np.ascontiguousarray(known)
    parts = bands(known.shape[0], ROWS)
    rows, columns = nearest_known(known)
    kept = known
    if math.isfinite(distance):
        near = np.empty_like(known)
        spread(lambda band: _near_enough(rows, columns, distance, near, *band), parts)
        kept = known | ~near

    def one(plane: Plane) -> Plane:
        filled = empty(plane.shape, plane.dtype)
        spread(lambda band: _fill(plane, known, rows, columns, filled, *band), parts)
        if sigma > 0.2:
            filled = blur(filled, gaussian_weights(sigma))
        np.copyto(filled, plane, where=kept)
        return filled

    return [one(plane) for plane in planes]
