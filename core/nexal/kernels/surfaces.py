"""Surfaces at steps of depth: what is hidden behind nearer ones, and pixels that hold two of them.

A lens sees a little behind an edge, where a picture has nothing: the farther side is continued there, mirrored at the
edge. A pixel at an edge holds the colours of both sides; it is parted into its share of the front and the pure back, so
that neither takes the other's colour along when it is blurred.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray

from nexal.kernels.threads import spread
from nexal.picture import Plane

STEPPED = 2.0
"""Pixels of difference between two circles that count as a step from one surface to another."""
NOTHING_BEHIND = 1e9
FAST: dict[str, Any] = {
    "cache": True,
    "nogil": True,
    "fastmath": {"contract", "nsz", "arcp"},
    "error_model": "numpy",
}
"""How these kernels are compiled: what may be infinite or no number stays so."""


@dataclass(frozen=True)
class Surfaces:
    """`hidden` (4 x H x W) is the premultiplied colour behind each pixel and `behind` its circle, 1e9 where nothing is;
    where `mark` is set a pixel was parted: `front` (6 x H x W) holds its front's colour, circle and share."""

    front: Plane
    mark: NDArray[np.uint8]
    hidden: Plane
    behind: Plane


@numba.njit(**FAST)
def _across(circles: Plane, top: int, bottom: int, most: float, seeds: Any) -> None:
    """Where to the left and to the right of each pixel a farther surface begins that a ray of the lens may see."""
    step = np.float32(STEPPED)
    for y in range(top, bottom):
        for way in range(2):
            seed = -1
            for i in range(circles.shape[1]):
                x = i if way == 0 else circles.shape[1] - 1 - i
                before = x - 1 if way == 0 else x + 1
                if i > 0 and circles[y, before] - circles[y, x] > step:
                    seed = before
                seeds[way, y, x] = -1
                if seed >= 0:
                    room = circles[y, seed] - circles[y, x]
                    if room > step and abs(x - seed) <= min(1.5 * room + 1, most):
                        seeds[way, y, x] = seed


@numba.njit(**FAST)
def _along(circles: Plane, left: int, right: int, most: float, seeds: Any) -> None:
    """The same up and down, for some columns."""
    step = np.float32(STEPPED)
    seed = np.empty(right - left, np.int32)
    for way in range(2):
        seed[:] = -1
        for i in range(circles.shape[0]):
            y = i if way == 0 else circles.shape[0] - 1 - i
            before = y - 1 if way == 0 else y + 1
            for x in range(left, right):
                if i > 0 and circles[before, x] - circles[y, x] > step:
                    seed[x - left] = before
                s = seed[x - left]
                seeds[2 + way, y, x] = -1
                if s >= 0:
                    room = circles[s, x] - circles[y, x]
                    if room > step and abs(y - s) <= min(1.5 * room + 1, most):
                        seeds[2 + way, y, x] = s


@numba.njit(**FAST)
def _filled(
    r: Plane, g: Plane, b: Plane, a: Plane, circles: Plane, seeds: Any, top: int, bottom: int, out: Plane, behind: Plane
) -> None:
    """What is behind each pixel: the farther side mirrored at its edge, mixed over the directions by distance."""
    height, width = circles.shape
    step = np.float32(STEPPED)
    for y in range(top, bottom):
        for x in range(width):
            behind[y, x] = np.float32(NOTHING_BEHIND)
            near, depth = 1 << 30, np.float32(0)
            for k in range(4):
                s = seeds[k, y, x]
                if s >= 0:
                    d = abs(s - x) if k < 2 else abs(s - y)
                    if d < near:
                        near, depth = d, circles[y, s] if k < 2 else circles[s, x]
            if near == 1 << 30:
                continue
            total = sr = sg = sb = sa = np.float32(0)
            for k in range(4):
                s = seeds[k, y, x]
                if s < 0:
                    continue
                own = circles[y, s] if k < 2 else circles[s, x]
                if abs(own - depth) > step:
                    continue
                d = np.float32(abs(s - x) if k < 2 else abs(s - y))
                my, mx = (y, 2 * s - x) if k < 2 else (2 * s - y, x)
                if mx < 0 or my < 0 or mx >= width or my >= height or abs(circles[my, mx] - own) > step:
                    my, mx = (y, s) if k < 2 else (s, x)
                w = np.float32(1) / (d * d)
                total += w
                sr += w * r[my, mx]
                sg += w * g[my, mx]
                sb += w * b[my, mx]
                sa += w * a[my, mx]
            behind[y, x] = depth
            out[0, y, x], out[1, y, x], out[2, y, x], out[3, y, x] = sr / total, sg / total, sb / total, sa / total


@numba.njit(**FAST)
def _parted(
    r: Plane, g: Plane, b: Plane, a: Plane, circles: Plane, top: int, bottom: int, front: Plane, mark: Any,
    hidden: Plane, behind: Plane,
) -> None:  # fmt: skip
    """The share c of the nearer surface is where the pixel's colour M lies between those of clean pixels of either
    side, F and B: c = (M - B).(F - B) / |F - B|^2, held to the side that its centre is on."""
    height, width = circles.shape
    one, zero, step = np.float32(1), np.float32(0), np.float32(STEPPED)
    near, far, own = np.empty(4, np.float32), np.empty(4, np.float32), np.empty(4, np.float32)
    for y in range(top, bottom):
        for x in range(width):
            mark[y, x] = 0
            if y < 1 or x < 1 or y >= height - 1 or x >= width - 1:
                continue
            low = high = circles[y, x]
            beside = max(abs(circles[y, x - 1] - low), abs(circles[y, x + 1] - low))
            if max(beside, max(abs(circles[y - 1, x] - low), abs(circles[y + 1, x] - low))) <= step:
                continue
            for j in range(y - 1, y + 2):
                for i in range(x - 1, x + 2):
                    low, high = min(low, circles[j, i]), max(high, circles[j, i])
            if high - low <= step:
                continue
            middle = (low + high) * np.float32(0.5)
            wn = wf = sn = sf = zero
            near[:] = 0
            far[:] = 0
            for j in range(max(1, y - 2), min(height - 1, y + 3)):
                for i in range(max(1, x - 2), min(width - 1, x + 3)):
                    c = circles[j, i]
                    nearer = c < middle
                    if (nearer and c - low > step) or (not nearer and high - c > step):
                        # A third surface.
                        continue
                    clean = True
                    for q in range(4):
                        up = 1 if q == 0 else (-1 if q == 1 else 0)
                        side = 1 if q == 2 else (-1 if q == 3 else 0)
                        if (circles[j + up, i + side] < middle) != nearer:
                            clean = False
                    w = (one if clean else np.float32(0.01)) / np.float32(1 + (j - y) * (j - y) + (i - x) * (i - x))
                    if nearer:
                        wn += w
                        sn += w * c
                        near[0] += w * r[j, i]
                        near[1] += w * g[j, i]
                        near[2] += w * b[j, i]
                        near[3] += w * a[j, i]
                    else:
                        wf += w
                        sf += w * c
                        far[0] += w * r[j, i]
                        far[1] += w * g[j, i]
                        far[2] += w * b[j, i]
                        far[3] += w * a[j, i]
            if wn == 0 or wf == 0:
                continue
            own[0], own[1], own[2], own[3] = r[y, x], g[y, x], b[y, x], a[y, x]
            along = square = zero
            for k in range(4):
                near[k] /= wn
                far[k] /= wf
                along += (own[k] - far[k]) * (near[k] - far[k])
                square += (near[k] - far[k]) * (near[k] - far[k])
            if square < np.float32(1e-4):
                # Alike: there is nothing to part.
                continue
            share = along / square
            within = circles[y, x] < middle
            share = min(max(share, np.float32(0.4)), one) if within else min(max(share, zero), np.float32(0.6))
            if (within and share > np.float32(0.97)) or (not within and share < np.float32(0.03)):
                continue
            norm = share * share + (one - share) * (one - share)
            for k in range(4):
                rest = (own[k] - share * near[k] - (one - share) * far[k]) / norm
                front[k, y, x] = share * max(zero, near[k] + share * rest)
                hidden[k, y, x] = max(zero, far[k] + (one - share) * rest)
                if k == 3:
                    front[k, y, x] = min(front[k, y, x], one)
                    hidden[k, y, x] = min(hidden[k, y, x], one)
            mark[y, x] = 1
            front[4, y, x] = sn / wn
            front[5, y, x] = share
            behind[y, x] = sf / wf


def surfaces_of(planes: Sequence[Plane], circles: Plane, reach: float) -> Surfaces:
    """Hidden surfaces and parted pixels of premultiplied r, g, b, a (H x W each) with their circles, up to `reach`."""
    height, width = circles.shape
    hidden, behind = np.empty((4, height, width), np.float32), np.empty((height, width), np.float32)
    front, mark = np.empty((6, height, width), np.float32), np.zeros((height, width), np.uint8)
    seeds = np.empty((4, height, width), np.int16)
    most = np.float32(reach)

    def rows(work: Any, size: int, length: int) -> None:
        spread(lambda start: work(start, min(start + size, length)), range(0, length, size))

    rows(lambda top, end: _across(circles, top, end, most, seeds), 128, height)
    rows(lambda left, end: _along(circles, left, end, most, seeds), 256, width)
    rows(lambda top, end: _filled(*planes, circles, seeds, top, end, hidden, behind), 64, height)
    rows(lambda top, end: _parted(*planes, circles, top, end, front, mark, hidden, behind), 64, height)
    return Surfaces(front, mark, hidden, behind)
