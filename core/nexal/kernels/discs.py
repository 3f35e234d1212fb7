"""The largest value within a disc, around each pixel of a plane.

A disc takes as many comparisons as it has rows, which is dear for large ones, and most of them decide nothing: the
discs of a small tile's pixels have nearly all in common, and what lies in some of them alone matters only where it is
higher than all that they share. So a tile begins with the largest value of what it shares, told from those of blocks,
and is raised by the rows alone that hold something higher at the rim.

References: Serra, *Image Analysis and Mathematical Morphology*, 1982; runs of powers of two as in Bender and
Farach-Colton, *The LCA Problem Revisited*, 2000.
"""

from __future__ import annotations

from collections.abc import Callable

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
LARGE = 36
"""Radius from which on it pays to look for what tiles have in common."""
_NOTHING = np.float32(-np.inf)


@numba.njit(cache=True, nogil=True)
def _make_runs(
    given: NDArray[np.float32], left: int, around: int, levels: int, runs: NDArray[np.float32], least: float
) -> bool | np.bool_:
    """The largest values of runs of 1, 2, 4 ... pixels from each pixel of a line on, which has `around` pixels: its
    samples after `left` of nothing, and nothing after them. False where none of the samples is above `least`; then
    nothing is made.

    The maximum over a run of any length is that of two of those that overlap; each is made of two of half its length.
    """
    line = runs[0, :around]
    line[:] = _NOTHING
    inside = line[left : left + given.size]
    for j in range(inside.size):
        # What is no number is passed over.
        inside[j] = given[j] if given[j] == given[j] else _NOTHING
    higher = np.int32(0)
    for j in range(inside.size):
        higher += np.int32(inside[j] > least)
    if not higher:
        return False
    for level in range(1, levels + 1):
        half = 1 << (level - 1)
        length = max(0, around - 2 * half + 1)
        one, other = runs[level - 1, :length], runs[level - 1, half : half + length]
        longer = runs[level, :length]
        for j in range(length):
            longer[j] = one[j] if one[j] > other[j] else other[j]
    return True


@numba.njit(cache=True, nogil=True)
def _levels(halves: NDArray[np.int64]) -> NDArray[np.int64]:
    """Which power of two the runs have of which two cover a row with so many pixels to both sides of its middle."""
    levels = np.zeros(halves.size, np.int64)
    for i in range(halves.size):
        while 2 << levels[i] <= 2 * halves[i] + 1:
            levels[i] += 1
    return levels


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

    The runs of a row serve the rows of the disc above and below at the same time.
    """
    height, width = source.shape
    radius, furthest = halves[0], rows[-1]
    levels = _levels(halves)
    runs = np.empty((levels[0] + 1, STRIP + 2 * radius), np.float32)
    for start in range(0, width, STRIP):
        count = min(STRIP, width - start)
        around = count + 2 * radius
        left, right = min(radius, start), min(radius, width - start - count)
        for row in range(max(0, first - furthest), min(height, last + furthest)):
            given = source[row, start - left : start + count + right]
            if not _make_runs(given, radius - left, around, levels[0], runs, least):
                continue
            for index in range(rows.size):
                d, size, level = rows[index], 2 * halves[index] + 1, levels[index]
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
def _block_maxima(source: Plane, size: int, blocks: Plane, first: int, last: int) -> None:
    """Rows `first` to `last` of the largest numbers within blocks of `size` pixels each way."""
    height, width = source.shape
    line = np.empty(width, np.float32)
    for i in range(first, last):
        line[:] = _NOTHING
        for row in range(i * size, min((i + 1) * size, height)):
            given = source[row]
            for j in range(width):
                line[j] = given[j] if given[j] > line[j] else line[j]
        for j in range(blocks.shape[1]):
            most = _NOTHING
            for k in range(j * size, min((j + 1) * size, width)):
                most = line[k] if line[k] > most else most
            blocks[i, j] = most


@numba.njit(cache=True, nogil=True)
def _shared(blocks: Plane, spans: NDArray[np.int64], i0: int, j0: int) -> np.float32:
    """The largest of the blocks that lie within the discs of all pixels of the tile that begins at a block."""
    height, width = blocks.shape
    most = _NOTHING
    for k in range(spans.shape[0]):
        i = i0 + spans[k, 0]
        if 0 <= i < height:
            for j in range(max(0, j0 + spans[k, 2]), min(width, j0 + spans[k, 3])):
                most = blocks[i, j] if blocks[i, j] > most else most
    return most


@numba.njit(cache=True, nogil=True)
def _mark_higher(
    source: Plane,
    blocks: Plane,
    size: int,
    spans: NDArray[np.int64],
    floor: float,
    corner: tuple[int, int],
    marked: NDArray[np.bool_],
) -> None:
    """Mark the rows in which something above `floor` lies in the discs of some pixels of the tile that begins at
    `corner` and not of all of them; the first of `marked` is the first row that a disc of the tile reaches."""
    height, width = source.shape
    i0, j0 = corner[0] // size, corner[1] // size
    highest = corner[0] + size * spans[0, 0]
    for k in range(spans.shape[0]):
        i = i0 + spans[k, 0]
        if i < 0 or i >= blocks.shape[0]:
            continue
        for side in range(2):
            first = max(0, j0 + spans[k, 1 + 2 * side])
            last = min(blocks.shape[1], j0 + spans[k, 2 + 2 * side])
            rim = blocks[i, first : max(first, last)]
            higher = np.int32(0)
            for j in range(rim.size):
                higher += np.int32(rim[j] > floor)
            if not higher:
                continue
            for row in range(i * size, min((i + 1) * size, height)):
                for j in range(rim.size):
                    if marked[row - highest]:
                        break
                    if rim[j] > floor:
                        for x in range((first + j) * size, min((first + j + 1) * size, width)):
                            if source[row, x] > floor:
                                marked[row - highest] = True
                                break


@numba.njit(cache=True, nogil=True)
def _raise_in_tiles(
    source: Plane,
    blocks: Plane,
    size: int,
    tile: int,
    spans: NDArray[np.int64],
    halves: NDArray[np.int64],
    result: Plane,
    first: int,
    last: int,
) -> None:
    """Rows `first` (a multiple of `tile`) to `last` of the largest number within a disc whose rows have `halves` pixels
    to both sides, from its middle on; `spans` as of `_spans`."""
    height, width = source.shape
    radius = halves.size - 1
    levels = _levels(halves)
    runs = np.empty((levels[0] + 1, STRIP + 2 * radius), np.float32)
    around_tile = size * spans[0, 0]
    reach = size * (spans[-1, 0] + 1) - around_tile
    down = -(-(last - first) // tile)
    marked = np.empty((down, STRIP // tile, reach), np.bool_)
    for start in range(0, width, STRIP):
        count = min(STRIP, width - start)
        across = -(-count // tile)
        marked[:] = False
        for i in range(down):
            top = first + i * tile
            for j in range(across):
                left = start + j * tile
                floor = _shared(blocks, spans, top // size, left // size)
                result[top : min(top + tile, last), left : min(left + tile, width)] = floor
                _mark_higher(source, blocks, size, spans, floor, (top, left), marked[i, j])
        around = count + 2 * radius
        before, after = min(radius, start), min(radius, width - start - count)
        for row in range(max(0, first - radius), min(height, last + radius)):
            made = False
            for i in range(max(0, (row - radius - first) // tile), min(down, (row + radius - first) // tile + 1)):
                top = first + i * tile
                wanted = marked[i, :, row - top - around_tile]
                j = 0
                while j < across:
                    if not wanted[j]:
                        j += 1
                        continue
                    begin = j * tile
                    while j < across and wanted[j]:
                        j += 1
                    length = min(j * tile, count) - begin
                    if not made:
                        given = source[row, start - before : start + count + after]
                        _make_runs(given, radius - before, around, levels[0], runs, _NOTHING)
                        made = True
                    for target in range(max(top, row - radius), min(top + tile, last, row + radius + 1)):
                        half, level = halves[abs(row - target)], levels[abs(row - target)]
                        near = begin + radius - half
                        far = near + 2 * half + 1 - (1 << level)
                        one, other = runs[level, near : near + length], runs[level, far : far + length]
                        line = result[target, start + begin : start + begin + length]
                        for k in range(length):
                            value = one[k] if one[k] > other[k] else other[k]
                            line[k] = value if value > line[k] else line[k]


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


def _disc(radius: int) -> NDArray[np.int64]:
    """Half widths of a disc's rows, from its middle on: pixels whose centre lies within `radius` of the middle's."""
    rows = np.arange(radius + 1)
    return np.floor(np.sqrt(radius * radius - rows * rows)).astype(np.int64)


def _beyond(radius: int) -> NDArray[np.int64]:
    """Which rows of a disc of `radius` reach further than those of the next smaller one and its neighbours do."""
    smaller = np.concatenate([_disc(radius - 1)[1:2], _disc(radius - 1), [-2, -2]])
    reached = np.maximum(smaller[1:-1] + 1, np.maximum(smaller[:-2], smaller[2:]))
    return np.flatnonzero(_disc(radius) > reached)


def _spans(radius: int, size: int, tile: int) -> NDArray[np.int64]:
    """Blocks of `size` that lie within discs of `radius` around pixels of a tile, in its own blocks: for each row of
    blocks its place, where those begin that lie within some discs, within all of them, where these end, and those. A
    row of which no block lies within all of them has them all before."""
    near, far = -(-radius // size), tile // size + -(-radius // size)
    offsets = size * np.arange(-near, far)
    least = np.maximum(0, np.maximum(offsets - (tile - 1), -(offsets + size - 1))) ** 2
    most = np.maximum(np.abs(offsets + size - 1), np.abs(offsets - (tile - 1))) ** 2
    spans = []
    for i in range(offsets.size):
        some = np.flatnonzero(least[i] + least <= radius * radius) - near
        every = np.flatnonzero(most[i] + most <= radius * radius) - near
        if some.size:
            end = some[-1] + 1
            inner = (every[0], every[-1] + 1) if every.size else (end, end)
            spans.append((i - near, some[0], *inner, end))
    return np.array(spans, np.int64)


def _in_turns(work: Callable[[tuple[int, int]], None], parts: list[tuple[int, int]], cost: int) -> None:
    """Work on all parts, each of so many rows times samples, looking now and then whether it is still wanted."""
    together = THREADS * max(1, PIECE // (THREADS * cost))
    for first in range(0, len(parts), together):
        check()
        spread(work, parts[first : first + together])


def _raise(plane: Plane, least: np.float32, rows: NDArray[np.int64], halves: NDArray[np.int64], result: Plane) -> None:
    """`_raise_in_rows` for all of a plane, on all threads."""
    height, width = plane.shape
    furthest = int(rows[-1])
    parts = bands(height, max(2 * furthest, 16))
    cost = rows.size * (parts[0][1] + 2 * furthest) * width
    _in_turns(lambda band: _raise_in_rows(plane, least, rows, halves, result, *band), parts, cost)


def _raised_in_tiles(plane: Plane, radius: int) -> Plane:
    """`_raise_in_tiles` for all of a plane, on all threads."""
    height, width = plane.shape
    size = 8 if radius < 160 else 16
    tile = 16 if radius < 64 else 32 if radius < 256 else 64
    blocks = empty((-(-height // size), -(-width // size)))
    spread(lambda band: _block_maxima(plane, size, blocks, *band), bands(blocks.shape[0], 2))
    result = empty(plane.shape)
    spans, halves = _spans(radius, size, tile), _disc(radius)
    parts = [
        (first * tile, min(last * tile, height)) for first, last in bands(-(-height // tile), -(-2 * radius // tile))
    ]
    cost = radius * (parts[0][1] + 2 * radius) * width
    _in_turns(lambda band: _raise_in_tiles(plane, blocks, size, tile, spans, halves, result, *band), parts, cost)
    return result


def disc_maximum(plane: Plane, radius: int, least: np.float32) -> Plane:
    """Largest number within a disc of `radius` (1 or more) whole pixels around each pixel of a plane H x W, contiguous,
    whose numbers are `least` or more; -inf where there is none. H x W."""
    if radius >= LARGE:
        return _raised_in_tiles(plane, radius)
    result = empty(plane.shape)
    result.fill(least)
    _raise(plane, least, np.arange(radius + 1), _disc(radius), result)
    return result


def next_disc_maximum(plane: Plane, smaller: Plane, radius: int, least: np.float32) -> Plane:
    """`disc_maximum` by a disc of `radius` (2 or more), from that by the next smaller one: with its neighbours that is
    nearly all of it, and what little reaches further is raised from the plane itself."""
    result = empty(plane.shape)
    spread(lambda band: _raise_beside(smaller, result, *band), bands(plane.shape[0], 16))
    rows = _beyond(radius)
    if rows.size:
        _raise(plane, least, rows, _disc(radius)[rows], result)
    return result
