"""Closed outlines rasterised with exact area coverage, and feathered by distance.

Coverage: the signed area that each edge leaves to its right is accumulated along the rows; its size, held at 1, is the
part of the pixel inside. Reference: R. Levien's accumulation form of the exact-area method (font-rs), after
Catmull, *A hidden-surface algorithm with anti-aliasing*, SIGGRAPH 1978.
"""

from __future__ import annotations

import math

import numba
import numpy as np
from numpy.typing import NDArray

from nexal.picture import Plane

Outline = NDArray[np.float64]


def flatten(points: NDArray[np.float64], tolerance: float = 0.002) -> Outline:
    """A closed chain of cubic curves as line segments.

    `points` is N x 8: x, y, incoming and outgoing tangent relative to the point, and feather inward and outward.
    Answers M x 4: x, y and the two feathers, linear along each curve. The curve departs from its lines by less than
    `tolerance` (bound from the second differences of its control polygon).
    """
    rows = []
    following = np.roll(points, -1, axis=0)
    for here, after in zip(points, following, strict=True):
        a, d = here[:2], after[:2]
        b, c = a + here[4:6], d + after[2:4]
        bend = max(float(np.linalg.norm(a - 2 * b + c)), float(np.linalg.norm(b - 2 * c + d)))
        steps = max(1, min(400, math.ceil(math.sqrt(0.75 * bend / tolerance))))
        t = (np.arange(steps) / steps)[:, None]
        curve = a * (1 - t) ** 3 + 3 * b * t * (1 - t) ** 2 + 3 * c * t * t * (1 - t) + d * t**3
        rows.append(np.hstack([curve, here[6:8] * (1 - t) + after[6:8] * t]))
    return np.concatenate(rows)


@numba.njit(cache=True, nogil=True)
def _right_of(u: float) -> float:
    """Integral of min(1, max(0, u))."""
    if u <= 0.0:
        return 0.0
    return 0.5 * u * u if u < 1.0 else u - 0.5


@numba.njit(cache=True, nogil=True)
def _accumulate(areas: NDArray[np.float64], outline: Outline) -> None:
    height, width = areas.shape
    count = outline.shape[0]
    for index in range(count):
        after = (index + 1) % count
        x0, y0, x1, y1 = outline[index, 0], outline[index, 1], outline[after, 0], outline[after, 1]
        if y0 == y1:
            continue
        sign = 1.0
        if y0 > y1:
            x0, y0, x1, y1, sign = x1, y1, x0, y0, -1.0
        slope = (x1 - x0) / (y1 - y0)
        for row in range(max(0, math.floor(y0)), min(height, math.ceil(y1))):
            top, bottom = max(y0, float(row)), min(y1, row + 1.0)
            if bottom <= top:
                continue
            xa, xb = x0 + (top - y0) * slope, x0 + (bottom - y0) * slope
            left, right = min(xa, xb), max(xa, xb)
            rise = (bottom - top) * sign
            span = right - left
            before = 0.0
            # An edge left of the array counts in full from the first column on.
            first = max(0, math.floor(left))
            for column in range(first, min(width, max(first, math.ceil(right)) + 1)):
                # Part of the pixel right of the edge, averaged along the edge; the whole pixel from its end on.
                if span > 1e-12:
                    part = (_right_of(column + 1.0 - left) - _right_of(column + 1.0 - right)) / span
                else:
                    part = min(1.0, max(0.0, column + 1.0 - left))
                areas[row, column] += rise * part - before
                before = rise * part


@numba.njit(cache=True, nogil=True)
def _distances(nearest: NDArray[np.float64], inward: Plane, outward: Plane, outline: Outline, reach: float) -> None:
    height, width = nearest.shape
    count = outline.shape[0]
    for index in range(count):
        after = (index + 1) % count
        ax, ay, bx, by = outline[index, 0], outline[index, 1], outline[after, 0], outline[after, 1]
        dx, dy = bx - ax, by - ay
        length = dx * dx + dy * dy
        left = max(0, math.floor(min(ax, bx) - reach))
        right = min(width, math.ceil(max(ax, bx) + reach) + 1)
        top = max(0, math.floor(min(ay, by) - reach))
        bottom = min(height, math.ceil(max(ay, by) + reach) + 1)
        for row in range(top, bottom):
            for column in range(left, right):
                px, py = column + 0.5 - ax, row + 0.5 - ay
                t = min(1.0, max(0.0, (px * dx + py * dy) / length)) if length > 0.0 else 0.0
                distance = (px - dx * t) ** 2 + (py - dy * t) ** 2
                if distance < nearest[row, column]:
                    nearest[row, column] = distance
                    inward[row, column] = outline[index, 2] + (outline[after, 2] - outline[index, 2]) * t
                    outward[row, column] = outline[index, 3] + (outline[after, 3] - outline[index, 3]) * t


def area_coverage(shape: tuple[int, int], outline: Outline) -> Plane:
    """Part of each pixel that lies inside a closed outline (M x 2 or more, x and y first), exact but for float32."""
    areas = np.zeros(shape, np.float64)
    _accumulate(areas, np.ascontiguousarray(outline, np.float64))
    # Sums that should be 0 are off by rounding only.
    return np.minimum(np.abs(np.cumsum(areas, axis=1).round(9)), 1).astype(np.float32)


def feathered_coverage(shape: tuple[int, int], outline: Outline) -> Plane:
    """Coverage that rises from 0 at the outward feather's distance to 1 at the inward one's, by smoothstep.

    `outline` is M x 4 as `flatten` answers. Where both feathers are 0 the coverage is that of the area.
    """
    sharp = area_coverage(shape, outline)
    reach = float(outline[:, 2:4].max(initial=0))
    if reach <= 0:
        return sharp
    nearest = np.full(shape, np.inf)
    inward, outward = np.zeros(shape, np.float32), np.zeros(shape, np.float32)
    _distances(nearest, inward, outward, np.ascontiguousarray(outline, np.float64), reach + 1)
    signed = np.where(sharp >= 0.5, 1, -1) * np.sqrt(nearest)
    width = inward + outward
    t = np.clip((signed + outward) / np.where(width > 0, width, 1), 0, 1)
    soft = t * t * (3 - 2 * t)
    return np.where(width > 0, soft, sharp).astype(np.float32)
