"""Planes of depth: what is nothing, edges that were averaged, centres that missed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numba
import numpy as np
from numpy.typing import NDArray

from nexal.kernels.nowhere import is_nothing
from nexal.kernels.threads import spread
from nexal.picture import NOTHING_FROM, Plane

CLEAR = 0.02
"""How far, as a part of a step, a pixel lies from both of its surfaces if it is an average of them."""
BEYOND = 0.3
"""How much farther than the farthest surface, in log depth, nothing is taken to be where steps are judged."""
ROWS = 64


@numba.njit(cache=True, nogil=True)
def _grown(depth: Plane, cover: Plane, result: Plane) -> None:
    height, width = cover.shape
    for y in range(height):
        for x in range(width):
            value = depth[y + 1, x + 1]
            if np.isinf(value) and cover[y, x] > 0:
                for j in range(3):
                    for i in range(3):
                        value = min(value, depth[y + j, x + i])
            result[y, x] = value


def grown(depth: Plane, cover: Plane) -> Plane:
    """H x W of a depth (H + 2) x (W + 2): infinite pixels that something covers take their nearest neighbour's."""
    result = np.empty_like(cover)
    _grown(depth, cover, result)
    return result


@numba.njit(cache=True, nogil=True)
def _parted(
    depth: Plane, key: Plane, least: float, top: int, bottom: int, near: Plane, far: Plane, share: Plane
) -> None:
    height, width = depth.shape
    for y in range(top, bottom):
        for x in range(width):
            near[y, x] = far[y, x] = depth[y, x]
            share[y, x] = 1
            best = np.float32(0)
            for line in range(4):
                dy = 0 if line == 0 else 1
                dx = 1 if line == 0 else line - 2
                # An average is one or two pixels wide.
                for reach in range(1, 3):
                    ya, xa, yb, xb = y - reach * dy, x - reach * dx, y + reach * dy, x + reach * dx
                    if ya < 1 or yb >= height - 1 or min(xa, xb) < 1 or max(xa, xb) >= width - 1:
                        continue
                    jump = abs(key[yb, xb] - key[ya, xa])
                    if jump <= least or jump <= best:
                        continue
                    before, behind = key[ya - dy, xa - dx] - key[ya, xa], key[yb + dy, xb + dx] - key[yb, xb]
                    if abs(before) > 0.2 * jump or abs(behind) > 0.2 * jump:
                        continue
                    # Both surfaces are continued straight to the pixel.
                    first = depth[ya, xa] + reach * (depth[ya, xa] - depth[ya - dy, xa - dx])
                    second = depth[yb, xb] + reach * (depth[yb, xb] - depth[yb + dy, xb + dx])
                    low, high = min(first, second), max(first, second)
                    if not high > low:
                        continue
                    part = (high - depth[y, x]) / (high - low)
                    if CLEAR <= part <= 1 - CLEAR:
                        best = jump
                        near[y, x], far[y, x], share[y, x] = low, high, part


def _judged(depth: Plane) -> tuple[Plane, Plane]:
    """The depth with one large number where nothing is, as files hold it, and its logarithm, in which steps are judged:
    what is not above 0 or infinite lies a little beyond the farthest."""
    there = np.isfinite(depth) & (depth > 0)
    with np.errstate(all="ignore"):
        key = np.where(there, np.log(np.where(there, depth, 1)), 0).astype(np.float32)
    key[~there] = (float(key[there].max()) if there.any() else 0.0) + BEYOND
    return np.where(np.isfinite(depth), depth, np.float32(NOTHING_FROM)), key


def parted(depth: Plane, step: float) -> tuple[Plane, Plane, Plane]:
    """Near and far surface of each pixel and the share of the near one (all H x W); whole pixels have both alike, 1.

    Steps are judged in log depth: `step` is about a part of the distance. Pixels within two of the border are whole.
    """
    held, key = _judged(depth)
    near, far, share = np.empty_like(held), np.empty_like(held), np.empty_like(held)
    height = depth.shape[0]
    spread(lambda top: _parted(held, key, step, top, min(top + ROWS, height), near, far, share), range(0, height, ROWS))
    infinite = np.float32(np.inf)
    for plane in (near, far):
        plane[plane >= np.float32(NOTHING_FROM * 0.99)] = infinite
    return near, far, share


CLEARLY = 0.1
"""How far, as a part of a step, a pixel of an edge lies from both surfaces if edges were averaged."""


@numba.njit(cache=True, nogil=True)
def _edges(depth: Plane, key: Plane, least: float, top: int, bottom: int) -> tuple[int, int]:
    height, width = depth.shape
    edges, between = 0, 0
    for y in range(max(top, 2), min(bottom, height - 2)):
        for x in range(2, width - 2):
            best, part = np.float32(0), np.float32(0)
            for line in range(4):
                dy = 0 if line == 0 else 1
                dx = 1 if line == 0 else line - 2
                jump = abs(key[y + dy, x + dx] - key[y - dy, x - dx])
                if jump <= least or jump <= best:
                    continue
                before = key[y - 2 * dy, x - 2 * dx] - key[y - dy, x - dx]
                behind = key[y + 2 * dy, x + 2 * dx] - key[y + dy, x + dx]
                if abs(before) > 0.2 * jump or abs(behind) > 0.2 * jump:
                    continue
                first = 2 * depth[y - dy, x - dx] - depth[y - 2 * dy, x - 2 * dx]
                second = 2 * depth[y + dy, x + dx] - depth[y + 2 * dy, x + 2 * dx]
                low, high = min(first, second), max(first, second)
                if high > low:
                    best, part = jump, (high - depth[y, x]) / (high - low)
            if best > 0:
                edges += 1
                between += 1 if CLEARLY <= part <= 1 - CLEARLY else 0
    return edges, between


def averaged_share(depth: Plane, step: float = 0.05) -> tuple[float, int]:
    """The share of pixels at steps of depth (H x W) that lie clear of both surfaces, and how many lie at steps.

    Up to 0.05 in unfiltered depth, above 0.2 where neighbouring samples were averaged.
    """
    held, key = _judged(depth)
    height = depth.shape[0]
    rows = spread(lambda top: _edges(held, key, step, top, min(top + ROWS, height)), range(0, height, ROWS))
    edges = sum(row[0] for row in rows)
    return (sum(row[1] for row in rows) / edges if edges else 0.0), edges


MOST_SAMPLES = 1_000_000
"""Pixels that are enough for percentiles and slopes."""


def sampled(depth: Plane, there: NDArray[np.bool_]) -> Plane:
    """The values where something is, of about so many pixels, evenly spread."""
    every = 1 + depth.size // MOST_SAMPLES
    return depth.ravel()[::every][there.ravel()[::every]]


FLAT_SHARE = 0.02
"""Share of pixels with one extreme value of 0, 1 or -1 that stands for nothing."""


def nothing_in(depth: Plane) -> tuple[NDArray[np.bool_], list[float]]:
    """Where a depth holds nothing, and the finite numbers that stand for it.

    Not finite, beyond 1e7, or one flat extreme of 0, 1 or -1 that many pixels share.
    """
    empty = is_nothing(depth)
    numbers = [float(np.median(depth[empty & np.isfinite(depth)]))] if (empty & np.isfinite(depth)).any() else []
    rest = depth[~empty]
    for extreme in (float(rest.min()), float(rest.max())) if rest.size else ():
        same = (depth == extreme) & ~empty
        others = depth[~empty & ~same]
        if extreme in (0.0, 1.0, -1.0) and same.mean() > FLAT_SHARE and others.size:
            empty |= same
            numbers.append(extreme)
    return empty, numbers


SMALL_IS_NEAR = 0.8
"""Least bend of a depth whose near values are the small ones on a scale of distance; below its negative they are the
large ones. In between it is inverse or a z-buffer."""


def bend(depth: Plane, step: int = 3) -> tuple[float, int]:
    """How the values of smooth slopes bend: median of v'' (spread of v) / v'^2, and of how many places it is known.

    Flat surfaces in perspective give inverse depths that are straight in the picture: 0 for an inverse depth, above 0
    where near is small on a scale of distance, below 0 where near is large on it. H x W, nothing there is infinite.
    """
    there = np.isfinite(depth)
    if not there.any():
        return 0.0, 0
    low, high = np.percentile(sampled(depth, there), (5, 95))
    spread_of = float(high - low)
    if not spread_of > 0:
        return 0.0, 0
    found = []
    for axis in (0, 1):
        # Of a large picture some rows and columns say as much.
        plane = np.moveaxis(depth, axis, 0)[:, :: 1 + depth.size // MOST_SAMPLES].astype(np.float64)
        left, middle, right = plane[: -2 * step], plane[step:-step], plane[2 * step :]
        with np.errstate(all="ignore"):
            slope, curve = (right - left) / 2, right - 2 * middle + left
            smooth = (np.abs(slope) > 1e-3 * spread_of) & (np.abs(curve) < 0.3 * np.abs(slope))
            found.append((curve * spread_of / slope**2)[smooth])
    rows = np.concatenate(found)
    return (float(np.median(rows)), int(rows.size)) if rows.size else (0.0, 0)


LEAST_SLOPES = 200
"""Places of smooth slope from which on what they say counts."""


LEAST_RATIO, MOST_RATIO = 1.5, 1e5
"""How many times further than the nearest thing the farthest is, in pictures that have some depth."""


@dataclass(frozen=True)
class Direction:
    """Which end of a depth is near: `kind` distance, inverse or buffer; not `sure` where others are as likely."""

    kind: str
    near_is: str
    sure: bool
    why: str


def direction(depth: Plane, numbers: Sequence[float]) -> Direction:
    """Kind and near end of a depth (H x W, infinite where nothing is), by its slopes, and where these are straight by
    what it tends to far away; `numbers` stood where nothing is.

    What is straight in the picture is a + k / d: an inverse depth tends to 0, a z-buffer to 1, and either with its sign
    turned round, to 0 or -1. Far is the end that lies at that number.
    """
    value, count = bend(depth)
    there = np.isfinite(depth)
    low, high = (float(end) for end in np.percentile(sampled(depth, there), (0.5, 99.5))) if there.any() else (0.0, 0.0)
    if count < LEAST_SLOPES:
        # Distances are what most programs write; nothing below them may be their end, or that of an inverse.
        below = [number for number in numbers if number < low]
        told = "no slopes that would tell which way round it is: small is taken for near"
        return Direction("distance", "small", not below, told)
    told = f"its slopes bend by {value:.2f} (from {count} places)"
    if value > SMALL_IS_NEAR:
        return Direction("distance", "small", True, f"{told}: distances, small is near")
    if value < -SMALL_IS_NEAR:
        return Direction("distance", "large", True, f"{told}: distances turned round, large is near")
    told += ": straight, as inverse distances and z-buffers are"
    ways = _ways(low, high)
    by_nothing = [way for way in ways if way[0] in numbers]
    if len(by_nothing) == 1:
        limit, near_is, _ = by_nothing[0]
        return Direction(_kind(limit), near_is, True, f"{told}; nothing is {limit:g}, which is its far end")
    likely = [way for way in ways if LEAST_RATIO <= way[2] <= MOST_RATIO] or ways
    if len({near_is for _, near_is, _ in likely}) == 1:
        limit, near_is, ratio = likely[0]
        return Direction(_kind(limit), near_is, True, f"{told}; far ones, {ratio:.3g} times as far, tend to {limit:g}")
    return Direction("inverse", "large", False, f"{told}, with either end near")


def _kind(limit: float) -> str:
    return "inverse" if limit == 0 else "buffer"


def _ways(low: float, high: float) -> list[tuple[float, str, float]]:
    """What values between two ends may tend to far away, which end is near then, and how many times as far the
    farthest is as the nearest."""
    ways = []
    for limit, possible, near_is in (
        (0.0, low > 0, "large"),
        (0.0, high < 0, "small"),
        (1.0, high < 1, "small"),
        (-1.0, low > -1 and high < 0, "large"),
    ):
        if possible:
            ends = abs(low - limit), abs(high - limit)
            ways.append((limit, near_is, max(ends) / min(ends)))
    return ways


def near_is_large(depth: Plane) -> bool:
    """Whether near values are the large ones, as far as can be told; nothing is infinite, or a flat extreme."""
    empty, numbers = nothing_in(depth)
    return direction(np.where(empty, np.float32(np.inf), depth), numbers).near_is == "large"


@numba.njit(cache=True, nogil=True)
def _risen(value: float, low: float, high: float, smooth: bool) -> float:
    if value >= high:
        # Without a feather the near end belongs to what is inside, and so does the far one.
        return 1.0
    if value <= low:
        return 0.0
    t = (value - low) / (high - low)
    return t * t * (3 - 2 * t) if smooth else t


@numba.njit(cache=True, nogil=True)
def _sliced(
    depth: Plane, a: float, b: float, c: float, d: float, smooth: bool, top: int, bottom: int, out: Plane
) -> None:
    for y in range(top, bottom):
        for x in range(depth.shape[1]):
            value = depth[y, x]
            # Beyond the far end it falls; without a feather at once, just behind it.
            fallen = _risen(value, c, d, smooth) if d > c else (1.0 if value > c else 0.0)
            out[y, x] = _risen(value, a, b, smooth) - fallen


def sliced(depth: Plane, ends: tuple[float, float, float, float], *, smooth: bool) -> Plane:
    """From 0 at the first end to 1 at the second, 1 to the third, 0 from the fourth on: H x W; infinite is far."""
    out = np.empty(depth.shape, np.float32)
    rows = depth.shape[0]
    spread(lambda top: _sliced(depth, *ends, smooth, top, min(top + ROWS, rows), out), range(0, rows, ROWS))
    return out
