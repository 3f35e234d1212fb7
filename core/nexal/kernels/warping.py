"""Moving a plane about: translation, scale and rotation by inverse mapping."""

from __future__ import annotations

import math

import numba
import numpy as np

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
    height, width = source.shape
    reach = support * stretch
    for row in range(result.shape[0]):
        for column in range(result.shape[1]):
            sx = left + xx * column + xy * row
            sy = top + yx * column + yy * row
            if code == 0:
                ix, iy = math.floor(sx), math.floor(sy)
                if 0 <= ix < width and 0 <= iy < height:
                    result[row, column] = source[iy, ix]
                else:
                    result[row, column] = 0.0
                continue
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
            result[row, column] = total / weights if weights != 0.0 else 0.0


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
