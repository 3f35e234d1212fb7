"""Moving a plane about by inverse mapping: affine, or by a perspective."""

from __future__ import annotations

import math

import numba
import numpy as np
from numpy.typing import NDArray

from nexal.picture import Plane

FILTER_SUPPORT = {"nearest": 0.5, "linear": 1.0, "cubic": 2.0}
_FILTER_CODE = {"nearest": 0, "linear": 1, "cubic": 2}


@numba.njit(cache=True, nogil=True)
def _weight(code: int, distance: float) -> float:
    d = abs(distance)
    if code == 1:
        return max(0.0, 1.0 - d)
    if d < 1.0:
        return (1.5 * d - 2.5) * d * d + 1.0
    if d < 2.0:
        return ((-0.5 * d + 2.5) * d - 4.0) * d + 2.0
    return 0.0


@numba.njit(cache=True, nogil=True)
def _sample(source: Plane, sx: float, sy: float, code: int, support: float, stretch: float) -> float:
    height, width = source.shape
    if code == 0:
        ix, iy = math.floor(sx), math.floor(sy)
        return source[iy, ix] if 0 <= ix < width and 0 <= iy < height else 0.0
    reach = support * stretch
    x0, x1 = math.ceil(sx - 0.5 - reach), math.floor(sx - 0.5 + reach)
    y0, y1 = math.ceil(sy - 0.5 - reach), math.floor(sy - 0.5 + reach)
    total, weights = 0.0, 0.0
    for y in range(y0, y1 + 1):
        wy = _weight(code, (y + 0.5 - sy) / stretch)
        if wy == 0.0:
            continue
        for x in range(x0, x1 + 1):
            w = wy * _weight(code, (x + 0.5 - sx) / stretch)
            weights += w
            if w != 0.0 and 0 <= x < width and 0 <= y < height:
                total += w * source[y, x]
    return total / weights if weights != 0.0 else 0.0


@numba.njit(cache=True, nogil=True)
def _resample(
    source: Plane,
    result: Plane,
    left: float,
    top: float,
    xx: float,
    xy: float,
    yx: float,
    yy: float,
    code: int,
    support: float,
    stretch: float,
) -> None:
    for row in range(result.shape[0]):
        for column in range(result.shape[1]):
            sx = left + xx * column + xy * row
            sy = top + yx * column + yy * row
            result[row, column] = _sample(source, sx, sy, code, support, stretch)


@numba.njit(cache=True, nogil=True)
def _resample_projective(
    source: Plane, result: Plane, m: NDArray[np.float64], area: float, code: int, support: float, most: float
) -> None:
    for row in range(result.shape[0]):
        for column in range(result.shape[1]):
            w = m[2, 0] * column + m[2, 1] * row + m[2, 2]
            if w <= 1e-6:
                result[row, column] = 0.0
                continue
            sx = (m[0, 0] * column + m[0, 1] * row + m[0, 2]) / w
            sy = (m[1, 0] * column + m[1, 1] * row + m[1, 2]) / w
            stretch = min(most, max(1.0, math.sqrt(area / (w * w * w))))
            result[row, column] = _sample(source, sx, sy, code, support, stretch)


def resample(
    source: Plane,
    shape: tuple[int, int],
    start: tuple[float, float],
    matrix: tuple[float, float, float, float],
    kind: str,
) -> Plane:
    """Sample `source` at `start + matrix @ (column, row)` for each pixel of an array of `shape` (H, W).

    Positions are continuous, (0.5, 0.5) being the centre of the source's first pixel; outside the source all is 0.
    `kind` is nearest, linear (tent) or cubic (Catmull-Rom); where the mapping shrinks, the filter is widened by the
    same factor, so that nothing aliases.
    """
    xx, xy, yx, yy = matrix
    stretch = max(1.0, math.sqrt(abs(xx * yy - xy * yx)))
    result = np.empty(shape, source.dtype)
    _resample(
        np.ascontiguousarray(source), result, *start, xx, xy, yx, yy, _FILTER_CODE[kind], FILTER_SUPPORT[kind], stretch
    )
    return result


MOST_STRETCH = 16.0
"""How many times a filter is widened at the most under a perspective; near its horizon there is no end to it."""


def resample_projective(source: Plane, shape: tuple[int, int], matrix: NDArray[np.float64], kind: str) -> Plane:
    """As `resample`, at the positions (x / w, y / w) with (x, y, w) = `matrix` (3 x 3) @ (column, row, 1).

    The filter is widened from place to place by the root of the area that a pixel covers there, |det M| / w^3, 16
    times at the most. What lies beyond the horizon (w <= 0) is 0.
    """
    result = np.empty(shape, source.dtype)
    area = abs(float(np.linalg.det(matrix)))
    support = FILTER_SUPPORT[kind]
    _resample_projective(
        np.ascontiguousarray(source),
        result,
        np.ascontiguousarray(matrix),
        area,
        _FILTER_CODE[kind],
        support,
        MOST_STRETCH,
    )
    return result
