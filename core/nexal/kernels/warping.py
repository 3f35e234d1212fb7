"""Moving a plane about by inverse mapping: affine, or by a perspective.

Reference for the cubic filter: Keys, *Cubic convolution interpolation for digital image processing*, IEEE Transactions
on Acoustics, Speech, and Signal Processing 29, 1981, with a = -1/2 (Catmull-Rom).
"""

from __future__ import annotations

import math
from collections.abc import Callable

import numba
import numpy as np
from numpy.typing import NDArray

from nexal.kernels.holding import ends, held, looks_beyond
from nexal.kernels.threads import bands, copy, spread
from nexal.memory import empty
from nexal.picture import Plane

FILTER_SUPPORT = {"nearest": 0.5, "linear": 1.0, "cubic": 2.0}
LINEAR, CUBIC = 1, 2
_FILTER_CODE = {"linear": LINEAR, "cubic": CUBIC}
ROWS = 16
"""Rows that a thread does at a time, at the least: what holds for all rows is found out once for each band."""
LEAST_STRETCH = 1.005
"""Widened by less than that, a filter is not widened: nobody sees it, and turning must not take four times as long
because a cosine was rounded."""
MOST_STRETCH = 16.0
"""How many times a filter is widened at the most under a perspective; near its horizon there is no end to it."""


@numba.njit(cache=True, nogil=True)
def _widened(ratio: float) -> float:
    """How many times a filter is widened where a picture shrinks by a ratio."""
    return ratio if ratio >= LEAST_STRETCH else 1.0


@numba.njit(cache=True, nogil=True)
def _weight(code: int, distance: float) -> float:
    d = abs(distance)
    if code == LINEAR:
        return max(0.0, 1.0 - d)
    if d < 1.0:
        return (1.5 * d - 2.5) * d * d + 1.0
    if d < 2.0:
        return ((-0.5 * d + 2.5) * d - 4.0) * d + 2.0
    return 0.0


@numba.njit(cache=True, nogil=True)
def _weigh(code: int, at: float, reach: float, stretch: float, weights: NDArray[np.float64]) -> tuple[int, int]:
    """The weights of the samples round a position along one axis, adding up to 1; the first of them and how many."""
    first, last = math.ceil(at - 0.5 - reach), math.floor(at - 0.5 + reach)
    total = 0.0
    for tap in range(last - first + 1):
        weights[tap] = _weight(code, (first + tap + 0.5 - at) / stretch)
        total += weights[tap]
    for tap in range(last - first + 1):
        weights[tap] = weights[tap] / total if total != 0.0 else 0.0
    return first, last - first + 1


_ONE, _TWO, _THREE = np.uintp(1), np.uintp(2), np.uintp(3)
"""Steps between samples: a place that cannot be below 0 is not asked whether it counts from the end."""
RUN = 256
"""Columns of a row that are done together: what is found out for each of them lies in the innermost cache."""
_HALF, _UNIT, _THREE_HALVES, _FIVE_HALVES, _DOUBLE = (np.float32(value) for value in (0.5, 1, 1.5, 2.5, 2))


@numba.njit(cache=True, nogil=True)
def _whole(m: NDArray[np.float64], column: int, row: int, width: int, height: int) -> bool:
    """Whether all that a cubic filter looks at lies in the plane."""
    x = m[0, 2] + m[0, 0] * column + m[0, 1] * row - 0.5
    y = m[1, 2] + m[1, 0] * column + m[1, 1] * row - 0.5
    return 1.0 <= x < width - 2 and 1.0 <= y < height - 2


@numba.njit(cache=True, nogil=True)
def _span(m: NDArray[np.float64], row: int, count: int, width: int, height: int) -> tuple[int, int]:
    """The columns of a row, up to `count`, where all that a filter looks at lies in the plane: they are neighbours."""
    low, high = 0.0, float(count)
    for axis, length in ((0, width), (1, height)):
        step, start = m[axis, 0], m[axis, 2] + m[axis, 1] * row - 0.5
        if step != 0.0:
            one, other = (1.0 - start) / step, (length - 2 - start) / step
            low, high = max(low, min(one, other) - 2.0), min(high, max(one, other) + 2.0)
    if not low < high:
        return 0, 0
    first, last = int(low), int(high)
    while first < last and not _whole(m, first, row, width, height):
        first += 1
    while first < last and not _whole(m, last - 1, row, width, height):
        last -= 1
    return first, last


@numba.njit(cache=True, nogil=True)
def _positions(m: NDArray[np.float64], row: int, first: int, x: NDArray[np.float64], y: NDArray[np.float64]) -> None:
    """The positions of a row from column `first` on, each as it is where it is looked for alone."""
    for j in range(x.size):
        column = first + j
        x[j] = m[0, 2] + m[0, 0] * column + m[0, 1] * row
        y[j] = m[1, 2] + m[1, 0] * column + m[1, 1] * row


@numba.njit(cache=True, nogil=True, error_model="numpy")
def _projected(m: NDArray[np.float64], row: int, first: int, x: NDArray[np.float64], y: NDArray[np.float64]) -> bool:
    """As `_positions`, under a perspective; whether no filter is widened at any of them."""
    least = abs(np.linalg.det(m)) / (LEAST_STRETCH * LEAST_STRETCH)
    odd = np.int32(0)
    for j in range(x.size):
        w = m[2, 2] + m[2, 0] * (first + j) + m[2, 1] * row
        x[j], y[j] = x[j] / w, y[j] / w
        odd += np.int32((w <= 1e-6) | (least >= w * w * w))
    return odd == 0


@numba.njit(cache=True, nogil=True)
def _locate(
    x: NDArray[np.float64],
    y: NDArray[np.float64],
    shape: tuple[int, int],
    places: NDArray[np.int32],
    across: Plane,
    down: Plane,
) -> bool:
    """The sample up and left of each position, and how far right of it and below it that is. Whether no more need be
    known: all that a cubic filter looks at lies in the plane, and all of it weighs something."""
    height, width = np.float64(shape[0]), np.float64(shape[1])
    odd = np.int32(0)
    for j in range(x.size):
        sx, sy = x[j] - 0.5, y[j] - 0.5
        left, top = np.floor(sx), np.floor(sy)
        t, u = sx - left, sy - top
        across[j], down[j] = t, u
        odd += np.int32((t == 0.0) | (u == 0.0))
        odd += np.int32((left < 1.0) | (top < 1.0) | (left >= width - 2.0) | (top >= height - 2.0))
        places[j] = np.int32(top * width + left)
    return odd == 0


@numba.njit(cache=True, nogil=True)
def _cubic_weights(t: Plane, a: Plane, b: Plane, c: Plane, d: Plane) -> None:
    """Catmull-Rom weights of four samples in a row, `t` to the right of the second, as polynomials; their sum is 1."""
    for j in range(t.size):
        at = t[j]
        a[j] = ((-_HALF * at + _UNIT) * at - _HALF) * at
        b[j] = (_THREE_HALVES * at - _FIVE_HALVES) * at * at + _UNIT
        c[j] = ((-_THREE_HALVES * at + _DOUBLE) * at + _HALF) * at
        d[j] = (_HALF * at - _HALF) * at * at


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _cubic(flat: Plane, width: int, places: NDArray[np.int32], weights: Plane, result: Plane) -> None:
    """The values between samples of a cubic filter that is not widened."""
    line = np.uintp(width)
    for j in range(result.size):
        a, b, c, d = weights[0, j], weights[1, j], weights[2, j], weights[3, j]
        at = np.uintp(places[j]) - line - _ONE
        first = (a * flat[at] + b * flat[at + _ONE]) + (c * flat[at + _TWO] + d * flat[at + _THREE])
        at += line
        second = (a * flat[at] + b * flat[at + _ONE]) + (c * flat[at + _TWO] + d * flat[at + _THREE])
        at += line
        third = (a * flat[at] + b * flat[at + _ONE]) + (c * flat[at + _TWO] + d * flat[at + _THREE])
        at += line
        fourth = (a * flat[at] + b * flat[at + _ONE]) + (c * flat[at + _TWO] + d * flat[at + _THREE])
        upper, lower = weights[4, j] * first + weights[5, j] * second, weights[6, j] * third + weights[7, j] * fourth
        result[j] = upper + lower


@numba.njit(cache=True, nogil=True)
def _both(flat: Plane, at: np.uintp) -> tuple[float, float]:
    """The least and the largest of four samples in a row."""
    a, b, c, d = flat[at], flat[at + _ONE], flat[at + _TWO], flat[at + _THREE]
    low, high = a if a < b else b, b if a < b else a
    least, largest = c if c < d else d, d if c < d else c
    return least if least < low else low, largest if largest > high else high


@numba.njit(cache=True, nogil=True)
def _hold(flat: Plane, width: int, places: NDArray[np.int32], result: Plane) -> None:
    """What lies beyond the least and the largest of the 4 x 4 samples that a cubic filter made it of, held by them."""
    line = np.uintp(width)
    for j in range(result.size):
        at = np.uintp(places[j]) - line - _ONE
        low, high = _both(flat, at)
        for _ in range(3):
            at += line
            least, largest = _both(flat, at)
            low, high = least if least < low else low, largest if largest > high else high
        result[j] = held(result[j], low, high)


@numba.njit(cache=True, nogil=True)
def _linear(flat: Plane, width: int, places: NDArray[np.int32], across: Plane, down: Plane, result: Plane) -> None:
    """The values between samples of a tent that is not widened."""
    line = np.uintp(width)
    for j in range(result.size):
        t, u, at = across[j], down[j], np.uintp(places[j])
        upper = (_UNIT - t) * flat[at] + t * flat[at + _ONE]
        at += line
        result[j] = (_UNIT - u) * upper + u * ((_UNIT - t) * flat[at] + t * flat[at + _ONE])


@numba.njit(cache=True, nogil=True)
def _sample(
    source: Plane,
    sx: float,
    sy: float,
    code: int,
    support: float,
    stretch: float,
    across: NDArray[np.float64],
    down: NDArray[np.float64],
    overshoot: bool,
) -> float:
    """The filtered value at a position; `across` and `down` have room for the weights of each axis. Without
    `overshoot` it is held by the least and the largest of the samples that weigh something."""
    height, width = source.shape
    reach = support * stretch
    left, columns = _weigh(code, sx, reach, stretch, across)
    top, rows = _weigh(code, sy, reach, stretch, down)
    total, low, high = 0.0, math.inf, -math.inf
    for i in range(max(0, -top), min(rows, height - top)):
        if down[i] == 0.0:
            continue
        beside = 0.0
        for j in range(max(0, -left), min(columns, width - left)):
            # What weighs nothing is not looked at: it may be no number.
            if across[j] != 0.0:
                value = source[top + i, left + j]
                beside += across[j] * value
                low, high = min(low, value), max(high, value)
        total += down[i] * beside
    if overshoot:
        return total
    if looks_beyond(down, rows, -top, height - top) or looks_beyond(across, columns, -left, width - left):
        low, high = min(low, 0.0), max(high, 0.0)
    return held(total, low, high)


@numba.njit(cache=True, nogil=True)
def _take(source: Plane, result: Plane, m: NDArray[np.float64], first: int, last: int) -> None:
    """Single samples at (x / w, y / w), with (x, y, w) = m @ (column, row, 1)."""
    height, width = source.shape
    for row in range(first, last):
        for column in range(result.shape[1]):
            w = m[2, 2] + m[2, 0] * column + m[2, 1] * row
            result[row, column] = 0
            if w <= 1e-6:
                continue
            x = math.floor((m[0, 2] + m[0, 0] * column + m[0, 1] * row) / w)
            y = math.floor((m[1, 2] + m[1, 0] * column + m[1, 1] * row) / w)
            if 0 <= x < width and 0 <= y < height:
                result[row, column] = source[y, x]


@numba.njit(cache=True, nogil=True)
def _singly(
    source: Plane,
    result: Plane,
    m: NDArray[np.float64],
    code: int,
    support: float,
    row: int,
    first: int,
    last: int,
    across: NDArray[np.float64],
    down: NDArray[np.float64],
    overshoot: bool,
) -> None:
    """As `_filtered`, columns `first` to `last` of a row, whatever they look at."""
    height, width = source.shape
    area = abs(np.linalg.det(m))
    affine = m[2, 0] == 0.0 and m[2, 1] == 0.0
    stretch = _widened(math.sqrt(area))
    for column in range(first, last):
        sx = m[0, 2] + m[0, 0] * column + m[0, 1] * row
        sy = m[1, 2] + m[1, 0] * column + m[1, 1] * row
        if not affine:
            w = m[2, 2] + m[2, 0] * column + m[2, 1] * row
            if w <= 1e-6:
                result[row, column] = 0.0
                continue
            sx, sy = sx / w, sy / w
            stretch = _widened(min(MOST_STRETCH, math.sqrt(area / (w * w * w))))
        reach = support * stretch
        if sx < -reach or sy < -reach or sx > width + reach or sy > height + reach:
            result[row, column] = 0.0
        else:
            result[row, column] = _sample(source, sx, sy, code, support, stretch, across, down, overshoot)


@numba.njit(cache=True, nogil=True)
def _filtered(
    source: Plane,
    result: Plane,
    m: NDArray[np.float64],
    code: int,
    support: float,
    overshoot: bool,
    first: int,
    last: int,
) -> None:
    """Filtered values at (x / w, y / w), with (x, y, w) = m @ (column, row, 1): everywhere alike, or, under a
    perspective, widened from place to place."""
    height, width = source.shape
    flat = source.ravel()
    affine = m[2, 0] == 0.0 and m[2, 1] == 0.0
    stretch = _widened(math.sqrt(abs(np.linalg.det(m))))
    room = int(2 * support * (stretch if affine else MOST_STRETCH)) + 2
    # Room for the weights of a position that is looked at by itself.
    right, below = np.empty(room), np.empty(room)
    count = result.shape[1]
    places, between, weights = np.empty(RUN, np.int32), np.empty((2, RUN), np.float32), np.empty((8, RUN), np.float32)
    x, y = np.empty(RUN), np.empty(RUN)
    for row in range(first, last):
        begin, end = _span(m, row, count, width, height) if affine else (0, count)
        end = end if stretch == 1.0 or not affine else begin
        _singly(source, result, m, code, support, row, 0, begin, right, below, overshoot)
        for start in range(begin, end, RUN):
            stop = min(start + RUN, end)
            size = stop - start
            across, down = between[0, :size], between[1, :size]
            _positions(m, row, start, x[:size], y[:size])
            easy = affine or _projected(m, row, start, x[:size], y[:size])
            if not (easy and _locate(x[:size], y[:size], source.shape, places, across, down)):
                _singly(source, result, m, code, support, row, start, stop, right, below, overshoot)
            elif code == LINEAR:
                _linear(flat, width, places, across, down, result[row, start:stop])
            else:
                _cubic_weights(across, weights[0], weights[1], weights[2], weights[3])
                _cubic_weights(down, weights[4], weights[5], weights[6], weights[7])
                _cubic(flat, width, places, weights, result[row, start:stop])
                if not overshoot:
                    _hold(flat, width, places, result[row, start:stop])
        _singly(source, result, m, code, support, row, end, count, right, below, overshoot)


@numba.njit(cache=True, nogil=True)
def _upright(
    source: Plane,
    result: Plane,
    m: NDArray[np.float64],
    code: int,
    support: float,
    overshoot: bool,
    first: int,
    last: int,
) -> None:
    """As `_filtered` where rows stay rows: each is first made of rows of the source, then sampled along itself."""
    height, width = source.shape
    stretch = _widened(math.sqrt(abs(m[0, 0] * m[1, 1])))
    reach = support * stretch
    room = int(2 * reach) + 2
    count = result.shape[1]
    # Beyond its ends a line is 0; what lies further away is looked up there.
    line = np.zeros(width + 2 * room)
    inner = line[room : room + width]
    lows, highs = np.zeros(line.size), np.zeros(line.size)
    least, largest = lows[room : room + width], highs[room : room + width]
    weights, down = np.zeros((room, count)), np.empty(room)
    starts, own = np.empty(count, np.int64), np.empty(room)
    most = 0
    for column in range(count):
        left, taps = _weigh(code, m[0, 2] + m[0, 0] * column, reach, stretch, own)
        starts[column] = min(max(left + room, 0), width + room)
        most = max(most, taps)
        weights[:taps, column] = own[:taps]
    # A picture that is only shifted has the same weights everywhere, for samples that lie side by side.
    shifted = m[0, 0] == 1.0
    from_column, to_column = 0, count
    if shifted:
        left, _ = _weigh(code, m[0, 2], reach, stretch, own)
        from_column = min(count, max(0, -(left + room)))
        to_column = max(from_column, min(count, line.size - most - (left + room)))
    made, low, high = np.zeros(count), np.zeros(count), np.zeros(count)
    for row in range(first, last):
        top, rows = _weigh(code, m[1, 2] + m[1, 1] * row, reach, stretch, down)
        inner[:] = 0.0
        for i in range(max(0, -top), min(rows, height - top)):
            weight, given = down[i], source[top + i]
            if weight != 0.0:
                for x in range(width):
                    inner[x] += weight * given[x]
        if not overshoot:
            beyond = looks_beyond(down, rows, -top, height - top)
            ends(source, np.arange(top, top + rows).astype(np.int32), down, beyond, least, largest)
        made[:] = 0.0
        for tap in range(most):
            if shifted:
                if own[tap] != 0.0:
                    begin = left + room + tap
                    target, given_line = made[from_column:to_column], line[begin + from_column : begin + to_column]
                    for column in range(target.size):
                        target[column] += own[tap] * given_line[column]
            else:
                share = weights[tap]
                for column in range(count):
                    # What weighs nothing may be no number.
                    part = share[column] * line[starts[column] + tap]
                    made[column] += part if share[column] != 0.0 else 0.0
        if not overshoot:
            low[:], high[:] = math.inf, -math.inf
            for tap in range(most):
                share = weights[tap]
                for column in range(count):
                    at = starts[column] + tap
                    less = lows[at] if share[column] != 0.0 else math.inf
                    more = highs[at] if share[column] != 0.0 else -math.inf
                    low[column] = less if less < low[column] else low[column]
                    high[column] = more if more > high[column] else high[column]
            for column in range(count):
                made[column] = held(made[column], low[column], high[column])
        for column in range(count):
            result[row, column] = made[column]


def resample(
    source: Plane,
    shape: tuple[int, int],
    start: tuple[float, float],
    matrix: tuple[float, float, float, float],
    kind: str,
    overshoot: bool = True,
) -> Plane:
    """Sample `source` at `start + matrix @ (column, row)` for each pixel of an array of `shape` (H, W).

    Positions are continuous, (0.5, 0.5) being the centre of the source's first pixel; outside the source all is 0.
    `kind` is nearest, linear (tent) or cubic (Catmull-Rom); where the mapping shrinks by `LEAST_STRETCH` or more, the
    filter is widened by the same factor, so that nothing aliases. Without `overshoot` no value of a cubic filter lies
    below the least or above the largest of the samples that it is made of.
    """
    xx, xy, yx, yy = matrix
    m = np.array([[xx, xy, start[0]], [yx, yy, start[1]], [0, 0, 1]], np.float64)
    if xx == yy == 0:
        # A quarter of a turn: on its side, rows stay rows.
        source, m = source.T, m[[1, 0, 2]]
    # A line is made of whole rows: that pays unless little of them is wanted.
    upright = m[0, 1] == m[1, 0] == 0 and source.shape[1] < 4 * abs(m[0, 0]) * shape[1] + 64
    return _resampled(source, shape, m, kind, overshoot, _upright if upright else _filtered)


def resample_projective(
    source: Plane, shape: tuple[int, int], matrix: NDArray[np.float64], kind: str, overshoot: bool = True
) -> Plane:
    """As `resample`, at the positions (x / w, y / w) with (x, y, w) = `matrix` (3 x 3) @ (column, row, 1).

    The filter is widened from place to place by the root of the area that a pixel covers there, |det M| / w^3, 16
    times at the most. What lies beyond the horizon (w <= 0) is 0.
    """
    return _resampled(source, shape, np.ascontiguousarray(matrix, np.float64), kind, overshoot, _filtered)


def _together(source: Plane) -> Plane:
    """A plane whose rows follow each other in memory; one that is cut out of another is copied."""
    if source.flags.c_contiguous:
        return source
    together = empty(source.shape, source.dtype)
    copy(source, together)
    return together


def _resampled(
    source: Plane,
    shape: tuple[int, int],
    m: NDArray[np.float64],
    kind: str,
    overshoot: bool,
    work: Callable[..., None],
) -> Plane:
    """All rows of the result, on all threads."""
    source, result = _together(source), empty(shape, source.dtype)
    if kind == "nearest":
        spread(lambda band: _take(source, result, m, *band), bands(shape[0], ROWS))
    else:
        code, support = _FILTER_CODE[kind], FILTER_SUPPORT[kind]
        # A tent makes nothing beyond what it is made of.
        free = overshoot or code == LINEAR
        spread(lambda band: work(source, result, m, code, support, free, *band), bands(shape[0], ROWS))
    return result
