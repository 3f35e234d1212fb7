"""Grey morphology with flat elements, and connected areas.

Reference: Serra, *Image Analysis and Mathematical Morphology*, 1982.
"""

from __future__ import annotations

import math

import cv2
import numba
import numpy as np
from numpy.typing import NDArray

from nexal.kernels.threads import THREADS, bands, spread
from nexal.memory import empty
from nexal.picture import Plane
from nexal.work import check

PIECE = 1_000_000_000
"""Rows of a disc times samples between two looks whether the result is still wanted: about a tenth of a second."""
STRIP = 512
"""Columns that are raised together: what they need lies in the innermost caches."""
_NOTHING = np.float32(-np.inf)


@numba.njit(cache=True, nogil=True)
def _raise_in_rows(
    source: Plane,
    least: float,
    rows: NDArray[np.int64],
    halves: NDArray[np.int64],
    result: Plane,
    first: int,
    last: int,
) -> None:
    """Raise rows `first` to `last` of the result to the largest value within an element: of its rows those at `rows`
    from the middle, up and down, from the middle on, which have `halves` pixels to both sides, fewer and fewer. Nothing
    of the source is below `least`: what holds no more raises nothing, and costs nothing.

    The maximum over a run of any length is that of two runs of a power of two that overlap; those are made once for
    each row, each from two of half its length, and serve the rows of the disc above and below at the same time.
    """
    height, width = source.shape
    radius, furthest = halves[0], rows[-1]
    levels = 1
    while 2 << levels <= 2 * radius + 1:
        levels += 1
    runs = np.empty((levels + 1, STRIP + 2 * radius), np.float32)
    for start in range(0, width, STRIP):
        count = min(STRIP, width - start)
        around = count + 2 * radius
        left, right = min(radius, start), min(radius, width - start - count)
        for row in range(max(0, first - furthest), min(height, last + furthest)):
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
            for index in range(rows.size):
                d, size = rows[index], 2 * halves[index] + 1
                while 1 << level > size:
                    level -= 1
                begin = radius - halves[index]
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


@numba.njit(cache=True, nogil=True)
def _raise_beside(source: Plane, result: Plane, first: int, last: int) -> None:
    """Rows `first` to `last` of the largest value of a pixel and its four neighbours; all are numbers."""
    height, width = source.shape
    for row in range(first, last):
        line, given = result[row], source[row]
        above, below = source[max(row - 1, 0)], source[min(row + 1, height - 1)]
        for j in range(width):
            value = above[j] if above[j] > below[j] else below[j]
            line[j] = value if value > given[j] else given[j]
        for j in range(1, width):
            value = given[j - 1]
            line[j] = value if value > line[j] else line[j]
        for j in range(width - 1):
            value = given[j + 1]
            line[j] = value if value > line[j] else line[j]


@numba.njit(cache=True, nogil=True)
def _blend(near: Plane, further: Plane, part: float, first: int, last: int) -> None:
    """Rows `first` to `last` of what lies `part` of the way from one plane to the other, in place of the other. Where
    both are the same that is what they are, also where it is infinite."""
    for row in range(first, last):
        a, b = near[row], further[row]
        for j in range(b.size):
            b[j] = a[j] + part * (b[j] - a[j]) if a[j] != b[j] else b[j]


def _disc(radius: int) -> NDArray[np.int64]:
    """Half widths of a disc's rows, from its middle on: pixels whose centre lies within `radius` of the middle's."""
    rows = np.arange(radius + 1)
    return np.floor(np.sqrt(radius * radius - rows * rows)).astype(np.int64)


def _beyond(radius: int) -> NDArray[np.int64]:
    """Which rows of a disc of `radius` reach further than those of the next smaller one and its neighbours do."""
    smaller = np.concatenate([_disc(radius - 1)[1:2], _disc(radius - 1), [-2, -2]])
    reached = np.maximum(smaller[1:-1] + 1, np.maximum(smaller[:-2], smaller[2:]))
    return np.flatnonzero(_disc(radius) > reached)


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
    result = empty(plane.shape)
    least = _least(plane)
    result.fill(least)
    _raise(plane, least, np.arange(radius + 1), _disc(radius), result)
    return result


def _least(plane: Plane) -> np.float32:
    """The least number of a plane; less than any where there is none."""
    least = np.float32(np.fmin.reduce(plane, axis=None, initial=np.inf))
    return least if least < np.inf else _NOTHING


def _raise(plane: Plane, least: np.float32, rows: NDArray[np.int64], halves: NDArray[np.int64], result: Plane) -> None:
    """`_raise_in_rows` for all of a plane, on all threads."""
    height, width = plane.shape
    furthest = int(rows[-1])
    size = max(2 * furthest, -(-height // (2 * THREADS)), 16)
    parts = [(top, min(top + size, height)) for top in range(0, height, size)]
    together = max(THREADS, PIECE // (rows.size * (size + 2 * furthest) * width))
    for first in range(0, len(parts), together):
        check()
        spread(lambda band: _raise_in_rows(plane, least, rows, halves, result, *band), parts[first : first + together])


def _next_disc(plane: Plane, smaller: Plane, radius: int) -> Plane:
    """`dilate` by a disc of `radius` (2 or more), from that by the next smaller one: with its neighbours that is nearly
    all of it, and what little reaches further is raised from the plane itself."""
    result = empty(plane.shape)
    spread(lambda band: _raise_beside(smaller, result, *band), bands(plane.shape[0], 16))
    rows = _beyond(radius)
    if rows.size:
        plane = np.ascontiguousarray(plane)
        _raise(plane, _least(plane), rows, _disc(radius)[rows], result)
    return result


def grow(plane: Plane, distance: float, *, round_element: bool) -> Plane:
    """Dilation (distance > 0) or erosion (< 0); a fraction blends between the results of the two whole sizes."""
    size = abs(distance)
    small, large = math.floor(size), math.ceil(size)
    source = plane if distance >= 0 else -plane
    result = dilate(source, small, round_element=round_element)
    if large != small:
        if round_element:
            further = _next_disc(source, result, large) if small else dilate(source, large, round_element=True)
        else:
            further = dilate(result, 1, round_element=False)
        # In place: at 4K a plane more costs as much as the dilation.
        part = np.float32(size - small)
        spread(lambda band: _blend(result, further, part, *band), bands(plane.shape[0], 16))
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
