"""Defocus by depth: the opening of each pixel is scattered as row spans into the slice of its circle.

Slices are composed from near to far. Those of large circles lie on coarser grids, so that the cost hardly depends on
the radius. Circles are radii in pixels, below 0 nearer than the focus. What edges hide, and pixels that hold two
surfaces, are found in `surfaces.py`.
References: the design and its figures are in the architecture notes; compared there with gathering and with layers.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray

from nexal.kernels.iris import STEP, Iris, Spans, spans
from nexal.kernels.lanes import add4, mix4
from nexal.kernels.surfaces import FAST, NOTHING_BEHIND, Surfaces, surfaces_of
from nexal.kernels.threads import spread
from nexal.picture import Plane
from nexal.work import check

ALIGN = 8
"""Side of a cell of the coarsest grid in pixels: borders of what is given have to be a multiple of it."""
LEVELS = 4
FINE = 16.0
"""Circles up to so many pixels stay on the full grid, up to twice as many on the half one, and so on."""
DIRECT = 3.0
"""Circles up to so many pixels are added one by one: no running sum leaves anything behind a highlight."""
SLICE_STEP, SLICE_GROWTH = 2.0, 0.15
GAP, GAP_STEPS = 3.0, 1.5
"""Pixels of circle, and steps between slices, that make another surface of what follows."""
ROWS = 32


@dataclass(frozen=True)
class Slices:
    """Borders between slices, from near to far; the middle, grid, largest circle and gap of each."""

    borders: NDArray[np.float64]
    middles: NDArray[np.float32]
    levels: NDArray[np.int64]
    highs: NDArray[np.float32]
    gaps: NDArray[np.float32]


def slices_for(reach: float) -> Slices:
    """Slices for circles of at most `reach` pixels: 2 px or 15 % apart; borders of grids are borders of slices."""
    ends, marks = [1.0], [DIRECT, *(FINE * 2**level for level in range(LEVELS - 1))]
    while ends[-1] < reach:
        following = ends[-1] + max(SLICE_STEP, SLICE_GROWTH * ends[-1])
        ends.append(min((mark for mark in marks if ends[-1] < mark < following), default=following))
    kept = np.array([end for end in ends if end < reach])
    borders = np.concatenate([-kept[::-1], kept])
    full = np.concatenate([[-reach], borders, [reach]])
    low = np.minimum(np.abs(full[1:]), np.abs(full[:-1]))
    high = np.maximum(np.abs(full[1:]), np.abs(full[:-1]))
    if len(kept):
        low[len(kept)] = 0
    levels = np.clip(np.floor(np.log2(np.maximum(low, 1e-3) / FINE + 1e-6)) + 1, 0, LEVELS - 1).astype(np.int64)
    middles = ((full[1:] + full[:-1]) / 2).astype(np.float32)
    steps = np.diff(middles, prepend=middles[0] - 1)
    gaps = np.maximum(np.float32(GAP), np.float32(GAP_STEPS) * steps).astype(np.float32)
    return Slices(borders, middles, levels, high.astype(np.float32), gaps)


@numba.njit(**FAST)
def _sliced(
    circles: Plane, front: Plane, mark: Any, behind: Plane, lookup: Any, reach: float, top: int, bottom: int, out: Any
) -> None:
    """The slice of each pixel, and of what is behind it; -1 where nothing is."""
    scale = np.float32((len(lookup) - 1) / (2 * reach))
    for y in range(top, bottom):
        for x in range(circles.shape[1]):
            circle = circles[y, x] if mark[y, x] == 0 else front[4, y, x]
            out[0, y, x] = lookup[int((circle + np.float32(reach)) * scale)]
            circle = behind[y, x]
            hidden = circle > np.float32(NOTHING_BEHIND / 2)
            out[1, y, x] = -1 if hidden else lookup[int((circle + np.float32(reach)) * scale)]


@numba.njit(**FAST)
def _listed(
    r: Plane, g: Plane, b: Plane, a: Plane, front: Plane, mark: Any, hidden: Plane, circles: Plane, behind: Plane,
    slices: Any, levels: Any, level: int, top: int, bottom: int, count: int, begin: Any, place: Any, size: Any,
    colour: Any,
) -> None:  # fmt: skip
    """One grid's rows as lists sorted by slice: what of the pixels around a cell falls into one slice is one entry.

    On coarse grids each pixel is shared among its nearest cells by a tent, so that a moving highlight moves evenly.
    """
    edge = 1 << level
    height, width = circles.shape
    columns = width // edge
    halo = edge // 2
    side = edge + 2 * halo
    most = min(2 * side * side, count)
    found, where = np.empty(most * columns, np.int16), np.empty(most * columns, np.int16)
    sums = np.empty((most * columns, 6), np.float32)
    counts = np.empty(count + 1, np.int32)
    tent = np.ones(side, np.float32)
    if level:
        for i in range(side):
            tent[i] = np.float32((1 - abs(2 * i + 1 - side) / (2 * edge)) / edge)
    # Sharing and reading back are tents of one cell: the grid's own blur, taken off the circle (r^2 / 4 of a disc).
    blurred = np.float32(4 * (1 / 6 + 1 / 6))
    for row in range(top, bottom):
        n = 0
        counts[:] = 0
        yy, y0, y1 = row * edge - halo, max(0, row * edge - halo), min(height, row * edge + edge + halo)
        for column in range(columns):
            first = n
            xx, x0, x1 = column * edge - halo, max(0, column * edge - halo), min(width, column * edge + edge + halo)
            s = slices[0, y0, x0]
            differ = 0
            lowest = np.int8(-1)
            for y in range(y0, y1):
                for x in range(x0, x1):
                    differ |= (slices[0, y, x] ^ s) | mark[y, x]
                    lowest = max(lowest, slices[1, y, x])
            if differ == 0 and levels[s] == level:
                # One slice alone, as almost everywhere.
                t0 = t1 = t2 = t3 = t4 = t5 = np.float32(0)
                for y in range(y0, y1):
                    wy = tent[y - yy]
                    for x in range(x0, x1):
                        w = wy * tent[x - xx]
                        t0 += w * r[y, x]
                        t1 += w * g[y, x]
                        t2 += w * b[y, x]
                        t3 += w * a[y, x]
                        t4 += w * abs(circles[y, x])
                        t5 += w
                sums[n, 0], sums[n, 1], sums[n, 2], sums[n, 3], sums[n, 4], sums[n, 5] = t0, t1, t2, t3, t4, t5
                found[n], where[n] = s, column
                n += 1
                counts[s + 1] += 1
            for layer in range(0 if differ else 1, 2 if lowest >= 0 else 1):
                for y in range(y0, y1):
                    for x in range(x0, x1):
                        s = slices[layer, y, x]
                        if s < 0 or levels[s] != level:
                            continue
                        at = first
                        while at < n and found[at] != s:
                            at += 1
                        if at == n:
                            found[n], where[n] = s, column
                            sums[n, :] = 0
                            n += 1
                            counts[s + 1] += 1
                        w = tent[y - yy] * tent[x - xx]
                        if layer == 0 and mark[y, x]:
                            v = w * front[5, y, x]
                            for k in range(4):
                                sums[at, k] += w * front[k, y, x]
                            sums[at, 4] += v * abs(front[4, y, x])
                            sums[at, 5] += v
                        elif layer == 0:
                            sums[at, 0] += w * r[y, x]
                            sums[at, 1] += w * g[y, x]
                            sums[at, 2] += w * b[y, x]
                            sums[at, 3] += w * a[y, x]
                            sums[at, 4] += w * abs(circles[y, x])
                            sums[at, 5] += w
                        else:
                            for k in range(4):
                                sums[at, k] += w * hidden[k, y, x]
                            sums[at, 4] += w * abs(behind[y, x])
                            sums[at, 5] += w
        for s in range(count):
            counts[s + 1] += counts[s]
        begin[row, :] = counts
        for e in range(n):
            to = counts[found[e]]
            counts[found[e]] += 1
            radius = sums[e, 4] / sums[e, 5] / np.float32(edge)
            if level:
                radius = np.sqrt(max(np.float32(0), radius * radius - blurred))
            place[row, to] = where[e]
            size[row, to] = int(radius * np.float32(1 / STEP) + np.float32(0.5))
            for k in range(5):
                colour[row, to, k] = sums[e, k] if k < 4 else sums[e, 5]


@numba.njit(**FAST)
def _scattered(
    grid: Any, s: int, side: int, low: Any, high: Any, reach: int, pad: int, stride: int, tables: Any, direct: bool,
    opaque: bool, light: Any, cover: Any,
) -> tuple[int, int]:  # fmt: skip
    """Adds one slice's entries into rows low..high of its grid, as changes along x; the columns touched."""
    begin, place, size, colour = grid
    first, half, left, right, weights = tables
    start: Any = 1 << 30
    end: Any = -(1 << 30)
    for sy in range(max(0, low - reach), min(begin.shape[0], high + reach)):
        e0, e1 = begin[sy, s], begin[sy, s + 1]
        if e0 == e1:
            continue
        if end < start:
            light[: (high - low) * stride * 4] = 0
            if not opaque:
                cover[: (high - low) * stride] = 0
        for e in range(e0, e1):
            x, k = np.int64(place[sy, e]), np.int64(size[sy, e])
            n = np.int64(half[side, k])
            f = np.int64(first[side, k]) + n - sy
            start, end = min(start, x - n - 1), max(end, x + n + 3)
            v0, v1, v2, v3 = colour[sy, e, 0], colour[sy, e, 1], colour[sy, e, 2], colour[sy, e, 3]
            v4 = colour[sy, e, 4]
            for y in range(max(low, sy - n), min(high, sy + n + 1)):
                q = f + y
                base = (y - low) * stride + x + pad
                p, o = base + left[q], base + right[q]
                w0, w1, w2, w3 = weights[q, 0], weights[q, 1], weights[q, 2], weights[q, 3]
                if direct:
                    run = np.float32(0)
                    for i in range(p, o + 1):
                        run += w0 if i == p else (w1 if i == p + 1 else np.float32(0))
                        run -= w2 if i == o else np.float32(0)
                        add4(light, 4 * i, run, v0, v1, v2, v3)
                        if not opaque:
                            cover[i] += run * v4
                    continue
                add4(light, 4 * p, w0, v0, v1, v2, v3)
                add4(light, 4 * p + 4, w1, v0, v1, v2, v3)
                add4(light, 4 * o, -w2, v0, v1, v2, v3)
                add4(light, 4 * o + 4, -w3, v0, v1, v2, v3)
                if not opaque:
                    cover[p] += w0 * v4
                    cover[p + 1] += w1 * v4
                    cover[o] -= w2 * v4
                    cover[o + 1] -= w3 * v4
    if end >= start and not direct:
        for y in range(high - low):
            s0 = s1 = s2 = s3 = s4 = np.float32(0)
            for i in range(y * stride + start + pad, y * stride + end + pad):
                s0 += light[4 * i]
                s1 += light[4 * i + 1]
                s2 += light[4 * i + 2]
                s3 += light[4 * i + 3]
                light[4 * i], light[4 * i + 1], light[4 * i + 2], light[4 * i + 3] = s0, s1, s2, s3
                if not opaque:
                    s4 += cover[i]
                    cover[i] = s4
    return start, end


@numba.njit(**FAST)
def _laid(
    light: Any, cover: Any, low: int, start: int, end: int, level: int, pad: int, stride: int, y0: int, y1: int,
    x0: int, x1: int, circle: float, gap: float, opaque: bool, state: Any, out: Any,
) -> None:  # fmt: skip
    """One slice under what is already there.

    `state` of a pixel: alpha and cover that surfaces in front let through; alpha and cover of the present surface; its
    last circle; the sum of cover.
    """
    one, edge = np.float32(1), 1 << level
    for y in range(y0, y1):
        cy = (y + 0.5) / edge - 0.5
        j = math.floor(cy)
        fy = np.float32(cy - j)
        above = (j - low) * stride + pad
        below = above + (stride if fy > 0 else 0)
        for x in range(max(x0, start * edge), min(x1, end * edge)):
            # The place on the grid is t / (2 edge).
            t = 2 * x + 1 - edge
            i = t >> (level + 1)
            fx = np.float32(t - (i << (level + 1))) / np.float32(2 * edge)
            p, q = above + i, below + i
            w1, w3 = (one - fy) * fx, fy * fx
            w0, w2 = one - fy - w1, fy - w3
            alpha = w0 * light[4 * p + 3] + w1 * light[4 * p + 7] + w2 * light[4 * q + 3] + w3 * light[4 * q + 7]
            w = alpha if opaque else w0 * cover[p] + w1 * cover[p + 1] + w2 * cover[q] + w3 * cover[q + 1]
            if w > np.float32(1e-4):
                at = (y - y0) * (x1 - x0) + x - x0
                own = state[at]
                if circle - own[4] > gap:
                    # Another surface: what stands in front lets only its rest through.
                    own[0] *= one - own[2]
                    own[1] *= one - own[3]
                    own[2] = 0
                    own[3] = 0
                share = min(one, (one - own[3]) / w)
                own[2] += share * alpha
                own[3] += share * w
                own[4] = circle
                own[5] += own[1] * share * w
                mix4(light, 4 * p, w0, w1, 4 * q, w2, w3, out, 4 * at, own[0] * share)


@numba.njit(**FAST)
def _strip(
    y0: int, y1: int, x0: int, x1: int, grids: Any, middles: Any, levels: Any, highs: Any, gaps: Any, tables: Any,
    opaque: bool, pads: Any, widths: Any, light: Any, cover: Any, state: Any, own: Any, out: Any,
) -> None:  # fmt: skip
    """Rows y0..y1 and columns x0..x1 of the result, into four planes."""
    for i in range((y1 - y0) * (x1 - x0)):
        state[i, 0] = state[i, 1] = 1
        state[i, 2] = state[i, 3] = state[i, 5] = 0
        state[i, 4] = -1e9
    own[: 4 * (y1 - y0) * (x1 - x0)] = 0
    for s in range(len(middles)):
        level = levels[s]
        edge = 1 << level
        low = math.floor((y0 + 0.5) / edge - 0.5)
        high = math.floor((y1 - 0.5) / edge - 0.5) + (2 if level else 1)
        stride = widths[level] + 2 * pads[level]
        reach = math.ceil(highs[s] * 1.4 / edge) + 2
        side = 1 if middles[s] < 0 else 0
        direct = highs[s] <= DIRECT
        a, b = _scattered(
            grids[level], s, side, low, high, reach, pads[level], stride, tables, direct, opaque, light, cover
        )
        if b >= a:
            _laid(
                light, cover, low, a, b, level, pads[level], stride, y0, y1, x0, x1, middles[s], gaps[s], opaque, state,
                own,
            )  # fmt: skip
    for y in range(y0, y1):
        for x in range(x0, x1):
            at = (y - y0) * (x1 - x0) + x - x0
            whole = state[at, 5]
            share = np.float32(1) / whole if whole > np.float32(1e-3) else np.float32(0)
            for k in range(4):
                out[k, y - y0, x - x0] = own[4 * at + k] * share


def defocused(
    planes: Sequence[Plane], circles: Plane, reach: float, margin: int, iris: Iris, *, opaque: bool
) -> list[Plane]:
    """Premultiplied r, g, b, a (H x W each) seen through a lens, without `margin` (a multiple of 8) on all sides.

    `circles` H x W: signed radii in pixels within +-reach (above 0); sides a multiple of 8. `opaque`: alpha is 1 all
    over, which saves a fifth. Everything finite; hidden surfaces are filled from what is seen around them.
    """
    surfaces = surfaces_of(planes, circles, reach)
    check()
    found = slices_for(reach)
    lists = _lists(planes, circles, surfaces, found, reach)
    del surfaces
    check()
    return _composed(lists, found, reach, circles.shape, margin, iris, opaque=opaque)


def _lists(
    planes: Sequence[Plane], circles: Plane, surfaces: Surfaces, found: Slices, reach: float
) -> list[tuple[NDArray[Any], ...]]:
    height, width = circles.shape
    lookup = np.searchsorted(found.borders, np.linspace(-reach, reach, 8193)).astype(np.int8)
    slices = np.empty((2, height, width), np.int8)
    front, mark, hidden, behind = surfaces.front, surfaces.mark, surfaces.hidden, surfaces.behind
    over(
        lambda top, end: _sliced(circles, front, mark, behind, lookup, reach, top, end, slices), range(0, height, 64),
        height,
    )  # fmt: skip
    count, coarsest = len(found.middles), int(found.levels.max())
    lists: list[tuple[NDArray[Any], ...]] = []
    for level in range(LEVELS):
        edge = 1 << level
        if level > coarsest:
            lists.append(
                (
                    np.zeros((1, 1), np.int32),
                    np.zeros((1, 1), np.int16),
                    np.zeros((1, 1), np.int16),
                    np.zeros((1, 1, 5), np.float32),
                )
            )
            continue
        rows, columns = height // edge, width // edge
        room = min(2 * (edge + 2 * (edge // 2)) ** 2, count) * columns
        grid = (
            np.zeros((rows, count + 1), np.int32),
            np.empty((rows, room), np.int16),
            np.empty((rows, room), np.int16),
            np.empty((rows, room, 5), np.float32),
        )

        def part(top: int, end: int, level: int = level, grid: Any = grid) -> None:
            _listed(*planes, front, mark, hidden, circles, behind, slices, found.levels, level, top, end, count, *grid)

        over(part, range(0, rows, max(8, 64 // edge)), rows)
        lists.append(grid)
    return lists


def _composed(
    lists: list[tuple[NDArray[Any], ...]], found: Slices, reach: float, shape: tuple[int, ...], margin: int, iris: Iris,
    *, opaque: bool,
) -> list[Plane]:  # fmt: skip
    height, width = shape
    coarsest = int(found.levels.max())
    largest = max(min(reach, FINE * 2) * 1.1, reach / (1 << coarsest) * 1.1 + 1)
    table: Spans = spans(math.ceil(largest), iris)
    tables = (table.first, table.half, table.left, table.right, table.weights)
    widest = [
        max((float(high) for high, own in zip(found.highs, found.levels, strict=True) if own == level), default=0.0)
        for level in range(LEVELS)
    ]
    pads = np.array([math.ceil(high / (1 << level) * 1.4) + 4 for level, high in enumerate(widest)], np.int64)
    widths = np.array([width >> level for level in range(LEVELS)], np.int64)
    out = np.empty((4, height - 2 * margin, width - 2 * margin), np.float32)
    size = 16 + max(
        (ROWS // (1 << level) + 3) * (int(widths[level]) + 2 * int(pads[level])) for level in range(coarsest + 1)
    )
    pixels = ROWS * out.shape[2]

    def part(top: int, end: int) -> None:
        scratch = (
            np.empty(4 * size, np.float32),
            np.empty(size, np.float32),
            np.empty((pixels, 6), np.float32),
            np.empty(4 * pixels, np.float32),
        )
        _strip(
            top + margin, end + margin, margin, width - margin, tuple(lists), found.middles, found.levels, found.highs,
            found.gaps, tables, opaque, pads, widths, *scratch, out[:, top:end],
        )  # fmt: skip

    over(part, range(0, out.shape[1], ROWS), out.shape[1])
    return list(out)


def over(work: Callable[[int, int], None], starts: Iterable[int], end: int) -> None:
    """Work on bands of rows, spread over threads."""
    tops = list(starts)
    spread(lambda index: work(tops[index], tops[index + 1] if index + 1 < len(tops) else end), range(len(tops)))
