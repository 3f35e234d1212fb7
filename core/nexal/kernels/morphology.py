"""Grey morphology with flat elements, and connected areas.

Reference: Serra, *Image Analysis and Mathematical Morphology*, 1982.
"""

from __future__ import annotations

import math

import cv2
import numba
import numpy as np

from nexal.kernels.discs import disc_maximum, next_disc_maximum
from nexal.kernels.threads import bands, spread
from nexal.memory import empty
from nexal.picture import Plane
from nexal.work import check

_NOTHING = np.float32(-np.inf)


@numba.njit(cache=True, nogil=True)
def _blend(near: Plane, further: Plane, part: float, first: int, last: int) -> None:
    """Rows `first` to `last` of what lies `part` of the way from one plane to the other, in place of the other. Where
    both are the same that is what they are, also where it is infinite; where the one holds nothing, the other."""
    for row in range(first, last):
        a, b = near[row], further[row]
        for j in range(b.size):
            b[j] = a[j] + part * (b[j] - a[j]) if a[j] != b[j] and a[j] > _NOTHING else b[j]


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


def _dilated(plane: Plane, radius: int, least: np.float32, *, round_element: bool) -> Plane:
    """Largest number within `radius` whole pixels, 1 or more: -inf where there is none."""
    if round_element:
        return disc_maximum(plane, radius, least)
    return _square(plane, radius) if radius > SMALL else _small_square(plane, radius)


def _least(plane: Plane) -> np.float32:
    """The least sample of a plane; not a number where one of them is none."""
    return np.float32(np.min(spread(lambda band: plane[slice(*band)].min(), bands(plane.shape[0], 16))))


def _without_numbers(plane: Plane, result: Plane) -> None:
    """Where nothing was found, what is no number stays none."""
    np.copyto(result, np.float32(np.nan), where=np.isnan(plane) & np.isneginf(result))


def grow(plane: Plane, distance: float, *, round_element: bool) -> Plane:
    """Dilation (distance > 0) or erosion (< 0) of a plane H x W; a fraction blends between the results of the two whole
    sizes. What is no number is passed over, and stays none where there is no number to come from. H x W.

    Reference: Serra, *Image Analysis and Mathematical Morphology*, 1982.
    """
    size = abs(distance)
    small, large = math.floor(size), math.ceil(size)
    if large == 0 or plane.size == 0:
        return plane
    source = np.ascontiguousarray(plane if distance >= 0 else -plane)
    least = _least(source)
    missing = bool(np.isnan(least))
    if missing:
        least = _NOTHING
    result = _dilated(source, small, least, round_element=round_element) if small else source
    if large != small:
        if not small:
            further = _dilated(source, large, least, round_element=round_element)
        elif round_element:
            further = next_disc_maximum(source, result, large, least)
        else:
            further = _dilated(result, 1, least, round_element=False)
        # In place: at 4K a plane more costs as much as the dilation.
        part = np.float32(size - small)
        spread(lambda band: _blend(result, further, part, *band), bands(plane.shape[0], 16))
        result = further
    if missing:
        _without_numbers(source, result)
    return result if distance >= 0 else np.negative(result, out=result)


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
