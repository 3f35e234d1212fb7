"""Brush strokes rasterised: the largest of a round dab swept along a line."""

from __future__ import annotations

import math

import numba
import numpy as np
from numpy.typing import NDArray

from nexal.kernels.threads import THREADS, spread
from nexal.picture import Plane

TILE = 64
"""Pixels of the side of a tile, for which the segments that can matter are chosen first."""
BLOCK = 16
"""Pixels of the side of a block within a tile, for which they are chosen again."""
SOLID_SIZE = 0.5
"""Radius below which a dab is fainter than 1 in its middle: it has no full pixel."""


@numba.njit(cache=True, nogil=True)
def _distance(px: float, py: float, dx: float, dy: float, length: float) -> float:
    """Distance of a position from a segment that leads from the origin to dx, dy."""
    t = min(1.0, max(0.0, (px * dx + py * dy) / length)) if length > 0.0 else 0.0
    return math.sqrt((px - dx * t) ** 2 + (py - dy * t) ** 2)


@numba.njit(cache=True, nogil=True)
def _passage(size: float, hardness: float, distance: float) -> float:
    """How far a dab has passed from nothing (0) to full coverage (1) at a distance from its middle.

    It rises with the dab's radius, and falls with the distance.
    """
    # The passage is a pixel wide at least, about the same middle.
    half = max(size * (1.0 - hardness), 1.0) * 0.5
    return (size * (1.0 + hardness) * 0.5 + half - distance) / (2.0 * half)


@numba.njit(cache=True, nogil=True)
def _choose(
    segments: NDArray[np.float64],
    candidates: NDArray[np.int64],
    x: float,
    y: float,
    around: float,
    hardness: float,
    chosen: NDArray[np.int64],
) -> int:
    """The candidates that can be the largest somewhere within `around` of a position: how many were put into `chosen`,
    -1 where one of them covers all of it in full.

    No position within reach is nearer to a segment than the middle is, less `around`, nor further than that, more
    `around`; what even so does not exceed what another is sure to give is left out.
    """
    best = 0.0
    solid = True
    for index in candidates:
        ax, ay, ap, bx, by, bp = segments[index]
        solid = solid and min(ap, bp) >= SOLID_SIZE
        distance = _distance(x - ax, y - ay, bx - ax, by - ay, (bx - ax) ** 2 + (by - ay) ** 2)
        best = max(best, _passage(min(ap, bp), hardness, distance + around))
    if not solid:
        best = 0.0
    elif best >= 1.0:
        return -1
    count = 0
    for index in candidates:
        ax, ay, ap, bx, by, bp = segments[index]
        if max(ap, bp) <= 0.0:
            continue
        distance = _distance(x - ax, y - ay, bx - ax, by - ay, (bx - ax) ** 2 + (by - ay) ** 2)
        most = _passage(max(ap, bp), hardness, distance - around)
        if most > 0.0 and most >= best:
            chosen[count] = index
            count += 1
    return count


@numba.njit(cache=True, nogil=True)
def _sweep_block(
    result: Plane, segments: NDArray[np.float64], chosen: NDArray[np.int64], hardness: float, x0: float, y0: float
) -> None:
    height, width = result.shape
    for index in chosen:
        ax, ay, ap, bx, by, bp = segments[index]
        dx, dy = bx - ax, by - ay
        length = dx * dx + dy * dy
        for row in range(height):
            py = row + 0.5 + y0 - ay
            for column in range(width):
                px = column + 0.5 + x0 - ax
                t = min(1.0, max(0.0, (px * dx + py * dy) / length)) if length > 0.0 else 0.0
                size = ap + (bp - ap) * t
                if size <= 0.0:
                    continue
                s = _passage(size, hardness, math.sqrt((px - dx * t) ** 2 + (py - dy * t) ** 2))
                if s <= 0.0:
                    continue
                coverage = 1.0 if s >= 1.0 else s * s * (3.0 - 2.0 * s)
                if size < SOLID_SIZE:
                    coverage *= 2.0 * size
                if coverage > result[row, column]:
                    result[row, column] = coverage


@numba.njit(cache=True, nogil=True)
def _sweep(result: Plane, segments: NDArray[np.float64], hardness: float, first: int, last: int) -> None:
    """Rows `first` to before `last`, which begin with a row of tiles. Of a long stroke few segments can matter to a
    tile, and fewer to a block of it; a block that one covers in full needs no look at the others."""
    width = result.shape[1]
    every = np.arange(segments.shape[0])
    of_tile, of_block = np.empty_like(every), np.empty_like(every)
    for top in range(first, last, TILE):
        for left in range(0, width, TILE):
            half = 0.5 * TILE
            count = _choose(segments, every, left + half, top + half, half * math.sqrt(2.0), hardness, of_tile)
            if count < 0:
                result[top : min(last, top + TILE), left : min(width, left + TILE)] = 1.0
                continue
            if count == 0:
                continue
            for y in range(top, min(last, top + TILE), BLOCK):
                for x in range(left, min(width, left + TILE), BLOCK):
                    half = 0.5 * BLOCK
                    few = _choose(
                        segments, of_tile[:count], x + half, y + half, half * math.sqrt(2.0), hardness, of_block
                    )
                    block = result[y : min(last, y + BLOCK), x : min(width, x + BLOCK)]
                    if few < 0:
                        block[:] = 1.0
                    else:
                        _sweep_block(block, segments, of_block[:few], hardness, x, y)


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
    ends = points.astype(np.float64)
    ends[:, :2] -= corner
    ends[:, 2] *= radius
    segments = np.hstack([ends[:-1], ends[1:]] if len(ends) > 1 else [ends, ends])
    spread(lambda band: _sweep(result, segments, hardness, *band), _tile_bands(shape[0]))
    return result


def _tile_bands(height: int) -> list[tuple[int, int]]:
    """Rows of tiles, shared out over the threads."""
    size = TILE * max(1, -(-height // (2 * THREADS * TILE)))
    return [(first, min(first + size, height)) for first in range(0, height, size)]


def lay(plane: Plane, coverage: Plane, value: float, opacity: float) -> None:
    """Move a plane H x W towards `value` by `coverage * opacity` (H x W and one number, each 0..1), in place:
    v + (value - v) coverage opacity."""
    _lay(plane, coverage, value, opacity)
