"""Colour carried outward to the pixels that have none."""

from __future__ import annotations

import math

import numba
import numpy as np
from numpy.typing import NDArray

from nexal.picture import Plane

FAR = 1 << 30


@numba.njit(cache=True, nogil=True)
def _nearest(known: NDArray[np.bool_], rows: NDArray[np.int32], columns: NDArray[np.int32]) -> None:
    height, width = known.shape
    # Down and up each column: the nearest known row.
    for x in range(width):
        last = -FAR
        for y in range(height):
            last = y if known[y, x] else last
            rows[y, x] = last
        last = FAR
        for y in range(height - 1, -1, -1):
            last = y if known[y, x] else last
            if rows[y, x] < 0 or (last < FAR and last - y < y - rows[y, x]):
                rows[y, x] = last if last < FAR else -1
    # Along each row: the lower envelope of the parabolas (x - v)^2 + (y - row[v])^2.
    place = np.empty(width, np.int32)
    start = np.empty(width + 1, np.float64)
    own = np.empty(width, np.int32)
    for y in range(height):
        count = 0
        for x in range(width):
            own[x] = rows[y, x]
            if own[x] < 0:
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


def nearest_known(known: NDArray[np.bool_]) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    """Row and column of the nearest pixel of a mask, for each pixel, exactly; -1 where the mask is empty.

    References: Felzenszwalb, Huttenlocher, *Distance transforms of sampled functions*, Theory of Computing 8, 2012.
    """
    rows, columns = (np.empty(known.shape, np.int32) for _ in range(2))
    _nearest(np.ascontiguousarray(known), rows, columns)
    return rows, columns


def carried(planes: list[Plane], known: NDArray[np.bool_], distance: float, sigma: float) -> list[Plane]:
    """Planes whose unknown pixels within `distance` take the nearest known value, smoothed by a Gaussian there.

    Known pixels, and those further away, keep their values.
    """
    from nexal.kernels.filters import blur, gaussian_weights

    if known.all() or not known.any():
        return planes
    rows, columns = nearest_known(known)
    unknown = ~known
    if math.isfinite(distance):
        y, x = np.indices(known.shape, dtype=np.int32)
        unknown &= np.hypot(rows - y, columns - x) <= distance
    result = []
    for plane in planes:
        filled = plane[rows, columns]
        smooth = blur(filled, gaussian_weights(sigma)) if sigma > 0.2 else filled
        result.append(np.where(unknown, smooth, plane))
    return result
