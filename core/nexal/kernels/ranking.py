"""How well crossings of two channels part two sets of samples: many candidates, one compiled pass each.

The blend functions are those of `blending`, on single numbers. Areas under the ROC curve come from histograms of the
values; the error is at most half the pairs that share a bin.
"""

from __future__ import annotations

import math

import numba
import numpy as np
from numpy.typing import NDArray

from nexal.picture import Plane

MODES = (
    "multiply",
    "screen",
    "darken",
    "lighten",
    "difference",
    "exclusion",
    "add",
    "average",
    "overlay",
    "color-dodge",
    "color-burn",
    "hard-light",
    "soft-light",
    "subtract",
    "divide",
)
SYMMETRIC = frozenset(MODES[:8])
SINGLE = -1
"""Mode of a candidate that is one channel alone."""

BINS = 3072
LOWEST, HIGHEST = -1.0, 2.0
"""What the histograms span; values beyond count at the ends."""
Codes = NDArray[np.int32]


@numba.njit(cache=True, nogil=True, inline="always")
def _held(v: float) -> float:
    return min(1.0, max(0.0, v))


@numba.njit(cache=True, nogil=True)
def _hard(cb: float, cs: float) -> float:
    return cb * 2.0 * cs if cs <= 0.5 else cb + (2.0 * cs - 1.0) - cb * (2.0 * cs - 1.0)


@numba.njit(cache=True, nogil=True)
def _clamped(mode: int, cb: float, cs: float) -> float:
    if mode == 1:
        return cb + cs - cb * cs
    if mode == 5:
        return cb + cs - 2.0 * cb * cs
    if mode == 8:
        return _hard(cs, cb)
    if mode == 9:
        return 0.0 if cb == 0.0 else (1.0 if cs == 1.0 else min(1.0, cb / (1.0 - cs)))
    if mode == 10:
        return 1.0 if cb == 1.0 else (0.0 if cs == 0.0 else 1.0 - min(1.0, (1.0 - cb) / cs))
    if mode == 11:
        return _hard(cb, cs)
    if cs <= 0.5:
        return cb - (1.0 - 2.0 * cs) * cb * (1.0 - cb)
    curve = ((16.0 * cb - 12.0) * cb + 4.0) * cb if cb <= 0.25 else math.sqrt(cb)
    return cb + (2.0 * cs - 1.0) * (curve - cb)


@numba.njit(cache=True, nogil=True)
def blended(mode: int, cb: float, cs: float) -> float:
    """B(cb, cs) of the mode with that place in `MODES`."""
    if math.isnan(cb) or math.isnan(cs):
        return math.nan
    if mode == 0:
        return cb * cs
    if mode == 2:
        return min(cb, cs)
    if mode == 3:
        return max(cb, cs)
    if mode == 4:
        return abs(cb - cs)
    if mode == 6:
        return cb + cs
    if mode == 7:
        return (cb + cs) * 0.5
    if mode == 13:
        return cb - cs
    if mode == 14:
        return cb / cs if cs != 0.0 else 0.0
    return _clamped(mode, _held(cb), _held(cs))


@numba.njit(cache=True, nogil=True)
def _value(planes: Plane, at: int, a: int, b: int, mode: int, invert_a: int, invert_b: int) -> float:
    cb = float(planes[a, at])
    cb = 1.0 - cb if invert_a else cb
    if mode < 0:
        return cb
    cs = float(planes[b, at])
    return blended(mode, cb, 1.0 - cs if invert_b else cs)


@numba.njit(cache=True, nogil=True)
def _fill(mode: int, a: Plane, b: Plane, values: Plane) -> None:
    """Crossed values of finite samples; the simple modes in loops of their own, which the compiler makes vectors of."""
    count = values.shape[0]
    if mode == 0:
        for i in range(count):
            values[i] = a[i] * b[i]
    elif mode == 2:
        for i in range(count):
            values[i] = min(a[i], b[i])
    elif mode == 3:
        for i in range(count):
            values[i] = max(a[i], b[i])
    elif mode == 4:
        for i in range(count):
            values[i] = abs(a[i] - b[i])
    elif mode == 6:
        for i in range(count):
            values[i] = a[i] + b[i]
    elif mode == 7:
        for i in range(count):
            values[i] = (a[i] + b[i]) * np.float32(0.5)
    elif mode == 13:
        for i in range(count):
            values[i] = a[i] - b[i]
    elif mode == 14:
        for i in range(count):
            values[i] = a[i] / b[i] if b[i] != 0.0 else 0.0
    elif mode == 1 or mode == 5:
        twice = np.float32(1.0 if mode == 1 else 2.0)
        for i in range(count):
            cb, cs = min(np.float32(1), max(np.float32(0), a[i])), min(np.float32(1), max(np.float32(0), b[i]))
            values[i] = cb + cs - twice * cb * cs
    elif mode < 0:
        for i in range(count):
            values[i] = a[i]
    else:
        for i in range(count):
            values[i] = _clamped(mode, _held(a[i]), _held(b[i]))


@numba.njit(cache=True, nogil=True, fastmath=True)
def _gather(values: Plane, counts: NDArray[np.int32]) -> tuple[float, float]:
    """Fill a histogram from LOWEST to HIGHEST, held at its ends; mean and variance."""
    count = values.shape[0]
    total, squares = 0.0, 0.0
    for i in range(count):
        v = float(values[i])
        total += v
        squares += v * v
    gain = np.float32(BINS / (HIGHEST - LOWEST))
    for i in range(count):
        place = (min(np.float32(HIGHEST), max(np.float32(LOWEST), values[i])) - np.float32(LOWEST)) * gain
        counts[min(BINS - 1, int(place))] += 1
    mean = total / count
    return mean, max(0.0, squares / count - mean * mean)


@numba.njit(cache=True, nogil=True)
def _rank(subject: Plane, background: Plane, codes: Codes, result: NDArray[np.float64]) -> None:
    """Each set holds every channel and, behind them, every channel turned round."""
    channels = subject.shape[0] // 2
    n1, n0 = subject.shape[1], background.shape[1]
    inside, outside = np.empty(n1, np.float32), np.empty(n0, np.float32)
    high, low = np.empty(BINS, np.int32), np.empty(BINS, np.int32)
    for index in range(codes.shape[0]):
        a = codes[index, 0] + channels * codes[index, 3]
        b = codes[index, 1] + channels * codes[index, 4]
        mode = codes[index, 2]
        _fill(mode, subject[a], subject[b], inside)
        _fill(mode, background[a], background[b], outside)
        high[:] = 0
        low[:] = 0
        m1, v1 = _gather(inside, high)
        m0, v0 = _gather(outside, low)
        below, pairs, shared = 0, 0.0, 0.0
        for place in range(BINS):
            if high[place]:
                pairs += high[place] * (below + 0.5 * low[place])
                shared += float(high[place]) * low[place]
            below += low[place]
        result[index, 0] = pairs / n1 / n0
        result[index, 1] = 0.5 * shared / n1 / n0
        result[index, 2] = (m1 - m0) ** 2 / max(v1 + v0, 1e-12)


@numba.njit(cache=True, nogil=True)
def _cross(planes: Plane, code: Codes, result: Plane) -> None:
    for at in range(planes.shape[1]):
        result[at] = _value(planes, at, code[0], code[1], code[2], code[3], code[4])


@numba.njit(cache=True, nogil=True)
def _quality(
    crossed: Plane, edges: NDArray[np.bool_], black: float, white: float, counts: NDArray[np.int64]
) -> tuple[float, float]:
    height, width = crossed.shape
    gain = 1.0 / (white - black)
    whole, kept = 0.0, 0.0
    reach = 4.0
    counts[:] = 0
    number = 0
    for y in range(1, height - 1):
        for x in range(1, width - 1):
            here = crossed[y, x]
            up, down = (crossed[y - 1, x] - black) * gain, (crossed[y + 1, x] - black) * gain
            left, right = (crossed[y, x - 1] - black) * gain, (crossed[y, x + 1] - black) * gain
            if edges[y, x]:
                whole += math.hypot(right - left, down - up)
                kept += math.hypot(_held(right) - _held(left), _held(down) - _held(up))
            size = abs(4.0 * (here - black) * gain - up - down - left - right)
            counts[min(counts.shape[0] - 1, int(size / reach * counts.shape[0]))] += 1
            number += 1
    if number == 0:
        return 0.0, 0.0
    seen, median = 0, 0.0
    for place in range(counts.shape[0]):
        seen += counts[place]
        if 2 * seen >= number:
            median = (place + 0.5) / counts.shape[0] * reach
            break
    return (kept / whole if whole > 0.0 else 0.0), median


def rank(subject: Plane, background: Plane, codes: Codes) -> NDArray[np.float64]:
    """Area under the ROC curve, its largest error, and the Fisher ratio of each candidate.

    `subject`, `background`: channels x samples, all finite, at least one of each. `codes`: candidates x 5, of channel
    a, channel b, mode (`SINGLE` for a channel alone), a inverted, b inverted.
    """
    result = np.zeros((len(codes), 3))
    both = (np.concatenate([planes, np.float32(1) - planes]) for planes in (subject, background))
    _rank(*both, codes, result)
    return result


def crossed(planes: Plane, code: Codes) -> Plane:
    """The values of one candidate over `planes`, channels x samples."""
    result = np.empty(planes.shape[1], np.float32)
    _cross(planes, code, result)
    return result


def quality(plane: Plane, edges: NDArray[np.bool_], black: float, white: float) -> tuple[float, float]:
    """Part of the gradient at `edges` that a clipped stretch keeps, and the noise of the stretched plane.

    Noise: median of the absolute Laplacian of the unclipped result, as the standard deviation that white noise of a
    normal distribution would need for it (median |N| = 0.6745, Laplacian of variance 20).
    """
    kept, median = _quality(plane, edges, black, white, np.zeros(4096, np.int64))
    return kept, median / (0.6745 * math.sqrt(20))
