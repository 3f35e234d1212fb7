"""Grey morphology with flat elements, and connected areas.

References: van Herk, *A fast algorithm for local minimum and maximum filters*, Pattern Recognition Letters 13, 1992;
Serra, *Image Analysis and Mathematical Morphology*, 1982.
"""

from __future__ import annotations

import math

import cv2
import numba
import numpy as np

from nexal.picture import Plane
from nexal.work import check

PIECE = 16_000_000
"""Samples raised between two looks whether the result is still wanted: about a tenth of a second."""


@numba.njit(cache=True, nogil=True)
def _raise_by_runs(source: Plane, result: Plane, halves: Plane, first: int, last: int) -> None:
    """Maximum over horizontal runs: row offset `dy` (first to last) reaches `halves[dy + r]` pixels to both sides."""
    height, width = source.shape
    reach = (halves.shape[0] - 1) // 2
    for dy in range(first, last + 1):
        half = int(halves[dy + reach])
        size = 2 * half + 1
        padded = width + 2 * half
        blocks = (padded + size - 1) // size * size
        line = np.empty(blocks, np.float32)
        forward = np.empty(blocks, np.float32)
        backward = np.empty(blocks, np.float32)
        for row in range(height):
            y = row + dy
            if y < 0 or y >= height:
                continue
            for x in range(blocks):
                inside = x - half
                line[x] = source[y, inside] if 0 <= inside < width else -np.inf
            for x in range(blocks):
                forward[x] = line[x] if x % size == 0 else max(forward[x - 1], line[x])
            for x in range(blocks - 1, -1, -1):
                backward[x] = line[x] if x % size == size - 1 else max(backward[x + 1], line[x])
            for x in range(width):
                value = max(backward[x], forward[x + size - 1])
                if value > result[row, x]:
                    result[row, x] = value


def _disc(radius: int) -> Plane:
    """Half widths of the rows of a disc: pixels whose centre lies within `radius` of the middle's."""
    rows = np.arange(-radius, radius + 1)
    return np.floor(np.sqrt(radius * radius - rows * rows)).astype(np.float32)


def dilate(plane: Plane, radius: int, *, round_element: bool) -> Plane:
    """Largest value of a plane H x W within `radius` whole pixels (0 or more): a disc, or a square of 2 radius + 1; the
    border adds nothing. H x W again (Serra, *Image Analysis and Mathematical Morphology*, 1982)."""
    if radius == 0:
        return plane
    plane = np.ascontiguousarray(plane)
    if not round_element:
        element = cv2.getStructuringElement(cv2.MORPH_RECT, (2 * radius + 1, 2 * radius + 1))
        return cv2.dilate(plane, element, borderType=cv2.BORDER_CONSTANT, borderValue=-np.inf)
    result = np.full_like(plane, -np.inf)
    together = max(1, PIECE // plane.size)
    for first in range(-radius, radius + 1, together):
        check()
        _raise_by_runs(plane, result, _disc(radius), first, min(first + together - 1, radius))
    return result


def grow(plane: Plane, distance: float, *, round_element: bool) -> Plane:
    """Dilation (distance > 0) or erosion (< 0); a fraction blends between the results of the two whole sizes."""
    size = abs(distance)
    small, large = math.floor(size), math.ceil(size)
    source = plane if distance >= 0 else -plane
    result = dilate(source, small, round_element=round_element)
    if large != small:
        further = dilate(source, large, round_element=round_element)
        result = result + (further - result) * np.float32(size - small)
    return result if distance >= 0 else -result


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
