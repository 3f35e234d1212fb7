"""Grey morphology with flat elements, and connected areas.

Reference: Serra, *Image Analysis and Mathematical Morphology*, 1982.
"""

from __future__ import annotations

import math

import cv2
import numba
import numpy as np
from numpy.typing import NDArray

from nexal.kernels.threads import THREADS, spread
from nexal.memory import empty
from nexal.picture import Plane
from nexal.work import check

PIECE = 1_000_000_000
"""Rows of a disc times samples between two looks whether the result is still wanted: about a tenth of a second."""
STRIP = 512
"""Columns that are raised together: what they need lies in the innermost caches."""
_NOTHING = np.float32(-np.inf)


@numba.njit(cache=True, nogil=True)
def _raise_in_disc(
    source: Plane, least: float, halves: NDArray[np.int64], result: Plane, first: int, last: int
) -> None:
    """Rows `first` to `last` of the largest value within a disc, whose row d from the middle has `halves[d]` pixels to
    both sides. Nothing of the source is below `least`: what holds no more raises nothing, and costs nothing.

    The maximum over a run of any length is that of two runs of a power of two that overlap; those are made once for
    each row, each from two of half its length, and serve the rows of the disc above and below at the same time.
    """
    height, width = source.shape
    radius = halves.size - 1
    levels = 1
    while 2 << levels <= 2 * radius + 1:
        levels += 1
    runs = np.empty((levels + 1, STRIP + 2 * radius), np.float32)
    for start in range(0, width, STRIP):
        count = min(STRIP, width - start)
        around = count + 2 * radius
        left, right = min(radius, start), min(radius, width - start - count)
        result[first:last, start : start + count] = least
        for row in range(max(0, first - radius), min(height, last + radius)):
            line = runs[0, :around]
            line[:] = _NOTHING
            inside = line[radius - left : radius + count + right]
            given = source[row, start - left : start + count + right]
            for j in range(inside.size):
                # What is no number is passed over.
                inside[j] = given[j] if given[j] == given[j] else _NOTHING
            higher = np.int32(0)
            for j in range(inside.size):
                higher += np.int32(inside[j] > least)
            if not higher:
                continue
            for level in range(1, levels + 1):
                half = 1 << (level - 1)
                length = max(0, around - 2 * half + 1)
                one, other = runs[level - 1, :length], runs[level - 1, half : half + length]
                longer = runs[level, :length]
                for j in range(length):
                    longer[j] = one[j] if one[j] > other[j] else other[j]
            level = levels
            for d in range(radius + 1):
                size = 2 * halves[d] + 1
                while 1 << level > size:
                    level -= 1
                begin = radius - halves[d]
                end = begin + size - (1 << level)
                one, other = runs[level, begin : begin + count], runs[level, end : end + count]
                up, down = first <= row - d < last, first <= row + d < last and d > 0
                if up and down:
                    above, below = result[row - d, start : start + count], result[row + d, start : start + count]
                    for j in range(count):
                        value = one[j] if one[j] > other[j] else other[j]
                        above[j] = value if value > above[j] else above[j]
                        below[j] = value if value > below[j] else below[j]
                elif up or down:
                    line = result[row - d if up else row + d, start : start + count]
                    for j in range(count):
                        value = one[j] if one[j] > other[j] else other[j]
                        line[j] = value if value > line[j] else line[j]


def _disc(radius: int) -> NDArray[np.int64]:
    """Half widths of a disc's rows, from its middle on: pixels whose centre lies within `radius` of the middle's."""
    rows = np.arange(radius + 1)
    return np.floor(np.sqrt(radius * radius - rows * rows)).astype(np.int64)


SMALL = 24
"""Radius of a square up to which pixels are compared one after the other, rather than in runs."""


def _small_square(plane: Plane, radius: int) -> Plane:
    element = cv2.getStructuringElement(cv2.MORPH_RECT, (2 * radius + 1, 2 * radius + 1))
    known = np.where(np.isnan(plane), _NOTHING, plane) if np.isnan(plane.min()) else plane
    return cv2.dilate(known, element, empty(plane.shape), borderType=cv2.BORDER_CONSTANT, borderValue=-np.inf)


def _square(plane: Plane, radius: int) -> Plane:
    """Largest value within a square, along columns and then along rows, by runs that grow to twice their length."""
    height, width = plane.shape
    result, spare = (empty((height + 2 * radius, width + 2 * radius)) for _ in range(2))
    result.fill(-np.inf)
    result[radius : radius + height, radius : radius + width] = plane
    for axis in (0, 1):
        size = 1
        while size < 2 * radius + 1:
            check()
            step = min(size, 2 * radius + 1 - size)
            kept = result.shape[axis] - step
            one, other = (result[:kept], result[step:]) if axis == 0 else (result[:, :kept], result[:, step:])
            made = spare[:kept, : result.shape[1]] if axis == 0 else spare[: result.shape[0], :kept]
            np.fmax(one, other, out=made)
            result, spare = made, result
            size += step
    return result


def dilate(plane: Plane, radius: int, *, round_element: bool) -> Plane:
    """Largest value of a plane H x W within `radius` whole pixels (0 or more): a disc, or a square of 2 radius + 1; the
    border adds nothing, and what is no number is passed over. H x W again.

    References: Serra, *Image Analysis and Mathematical Morphology*, 1982; runs of powers of two as in Bender,
    Farach-Colton, *The LCA Problem Revisited*, 2000.
    """
    if radius == 0:
        return plane
    plane = np.ascontiguousarray(plane)
    if not round_element:
        return _square(plane, radius) if radius > SMALL else _small_square(plane, radius)
    halves, result = _disc(radius), empty(plane.shape)
    least = np.float32(np.fmin.reduce(plane, axis=None, initial=np.inf))
    least = least if least < np.inf else _NOTHING
    height, width = plane.shape
    rows = max(2 * radius, -(-height // (2 * THREADS)), 16)
    bands = [(top, min(top + rows, height)) for top in range(0, height, rows)]
    together = max(THREADS, PIECE // ((radius + 1) * (rows + 2 * radius) * width))
    for first in range(0, len(bands), together):
        check()
        spread(lambda band: _raise_in_disc(plane, least, halves, result, *band), bands[first : first + together])
    return result


def grow(plane: Plane, distance: float, *, round_element: bool) -> Plane:
    """Dilation (distance > 0) or erosion (< 0); a fraction blends between the results of the two whole sizes."""
    size = abs(distance)
    small, large = math.floor(size), math.ceil(size)
    source = plane if distance >= 0 else -plane
    result = dilate(source, small, round_element=round_element)
    if large != small:
        # A square is grown by one pixel more from where it is; a disc is not.
        near, more = (source, large) if round_element else (result, 1)
        further = dilate(near, more, round_element=round_element)
        # In place: at 4K a plane more costs as much as the dilation.
        further -= result
        further *= np.float32(size - small)
        further += result
        result = further
    return result if distance >= 0 else np.negative(result, out=result if result is not source else None)


def small_areas(mask: np.ndarray, limit: float) -> np.ndarray:
    """Where connected areas (8-way) of a boolean mask H x W have fewer than `limit` pixels: H x W of bool."""
    _, labels, statistics, _ = cv2.connectedComponentsWithStats(mask.astype(np.uint8), connectivity=8)
    small = statistics[:, cv2.CC_STAT_AREA] < limit
    small[0] = False
    return small[labels]


def local_range(plane: Plane, size: int) -> Plane:
    """Largest less smallest value within a square of `size` pixels round each pixel: H x W."""
    near = np.ones((size, size), np.uint8)
    found: Plane = cv2.dilate(plane, near) - cv2.erode(plane, near)
    return found


def areas_of(mask: np.ndarray) -> np.ndarray:
    """Pixels of each connected area (8-way) of a boolean mask H x W."""
    _, _, statistics, _ = cv2.connectedComponentsWithStats(mask.astype(np.uint8), connectivity=8)
    areas: np.ndarray = statistics[1:, cv2.CC_STAT_AREA]
    return areas


PART_LENGTH = 8
"""Pixels from which on a long thin area is a part of what is seen, such as a hair, and no speck."""
PART_SHARE = 0.4
"""How much of the square on its longer side a thin area covers at the most."""


def speck_limit(mask: np.ndarray, most: float) -> float:
    """Pixels below which connected areas (8-way) of a boolean mask H x W are specks: at most `most`, and no more than
    the smallest area that is long and thin, as hairs and their pieces are."""
    _, _, statistics, _ = cv2.connectedComponentsWithStats(mask.astype(np.uint8), connectivity=8)
    areas = statistics[1:, cv2.CC_STAT_AREA].astype(np.float64)
    longer = statistics[1:, [cv2.CC_STAT_WIDTH, cv2.CC_STAT_HEIGHT]].max(axis=1, initial=0).astype(np.float64)
    parts = areas[(longer >= PART_LENGTH) & (areas <= PART_SHARE * longer**2)]
    return float(min([most, *parts.tolist()]))
