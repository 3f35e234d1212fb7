"""Brush strokes rasterised: the largest of a round dab swept along a line."""

from __future__ import annotations

import math

import numba
import numpy as np
from numpy.typing import NDArray

from nexal.picture import Plane


@numba.njit(cache=True, nogil=True)
def _sweep(result: Plane, points: NDArray[np.float32], radius: float, hardness: float, x0: float, y0: float) -> None:
    height, width = result.shape
    count = points.shape[0]
    for index in range(max(1, count - 1)):
        after = min(index + 1, count - 1)
        ax, ay, ap = points[index, 0] - x0, points[index, 1] - y0, points[index, 2]
        bx, by, bp = points[after, 0] - x0, points[after, 1] - y0, points[after, 2]
        reach = radius * max(ap, bp) + 1.0
        left, right = max(0, math.floor(min(ax, bx) - reach)), min(width, math.ceil(max(ax, bx) + reach) + 1)
        top, bottom = max(0, math.floor(min(ay, by) - reach)), min(height, math.ceil(max(ay, by) + reach) + 1)
        dx, dy = bx - ax, by - ay
        length = dx * dx + dy * dy
        for row in range(top, bottom):
            for column in range(left, right):
                px, py = column + 0.5 - ax, row + 0.5 - ay
                t = min(1.0, max(0.0, (px * dx + py * dy) / length)) if length > 0.0 else 0.0
                size = radius * (ap + (bp - ap) * t)
                if size <= 0.0:
                    continue
                distance = math.sqrt((px - dx * t) ** 2 + (py - dy * t) ** 2)
                # The passage is a pixel wide at least, about the same middle.
                middle, half = size * (1.0 + hardness) * 0.5, max(size * (1.0 - hardness), 1.0) * 0.5
                s = (middle + half - distance) / (2.0 * half)
                if s <= 0.0:
                    continue
                coverage = 1.0 if s >= 1.0 else s * s * (3.0 - 2.0 * s)
                if size < 0.5:
                    coverage *= 2.0 * size
                if coverage > result[row, column]:
                    result[row, column] = coverage


@numba.njit(cache=True, nogil=True)
def _lay(plane: Plane, coverage: Plane, value: float, opacity: float) -> None:
    for row in range(plane.shape[0]):
        for column in range(plane.shape[1]):
            amount = coverage[row, column] * opacity
            if amount != 0.0:
                plane[row, column] += (value - plane[row, column]) * amount


def stroke_coverage(
    shape: tuple[int, int], points: NDArray[np.float32], radius: float, hardness: float, corner: tuple[float, float]
) -> Plane:
    """Coverage of a stroke in an array of `shape` whose first pixel's corner lies at `corner`.

    `points` is N x 3: x, y and the pressure that scales the radius. A dab is 1 up to `hardness * radius`, 0 from
    `radius` on, with a smoothstep between that is at least a pixel wide; the stroke is the largest of the dabs along
    its line, so that nothing builds up where it crosses itself.
    """
    result = np.zeros(shape, np.float32)
    _sweep(result, points, radius, hardness, *corner)
    return result


def lay(plane: Plane, coverage: Plane, value: float, opacity: float) -> None:
    """Move a plane H x W towards `value` by `coverage * opacity` (H x W and one number, each 0..1), in place:
    v + (value - v) coverage opacity."""
    _lay(plane, coverage, value, opacity)
