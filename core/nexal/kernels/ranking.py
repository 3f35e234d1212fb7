"""How well crossings of two channels part two sets of samples: many candidates, one compiled pass each.

The blend functions are those of `blending`, on single numbers. Areas under the ROC curve come from histograms of the
values squashed by v / (1 + |v|), which keeps their order; the error is at most half the pairs that share a bin.
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

BINS = 4096
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
def _gather(planes: Plane, code: Codes, counts: NDArray[np.int64]) -> tuple[float, float, float]:
    """Fill a histogram of squashed values; number, mean and variance of the finite ones."""
    number, total, squares = 0.0, 0.0, 0.0
    for at in range(planes.shape[1]):
        v = _value(planes, at, code[0], code[1], code[2], code[3], code[4])
        if not math.isfinite(v):
            continue
        number += 1.0
        total += v
        squares += v * v
        place = int((v / (1.0 + abs(v)) + 1.0) * (0.5 * BINS))
        counts[min(BINS - 1, max(0, place))] += 1
    if number == 0.0:
        return 0.0, 0.0, 0.0
    mean = total / number
    return number, mean, max(0.0, squares / number - mean * mean)


@numba.njit(cache=True, nogil=True)
def _rank(subject: Plane, background: Plane, codes: Codes, result: NDArray[np.float64]) -> None:
    high, low = np.zeros(BINS, np.int64), np.zeros(BINS, np.int64)
    for index in range(codes.shape[0]):
        high[:] = 0
        low[:] = 0
        n1, m1, v1 = _gather(subject, codes[index], high)
        n0, m0, v0 = _gather(background, codes[index], low)
        if n1 == 0.0 or n0 == 0.0:
            result[index, :] = 0.0
            result[index, 0] = 0.5
            continue
        below, pairs, shared = 0.0, 0.0, 0.0
        for place in range(BINS):
            pairs += high[place] * (below + 0.5 * low[place])
            shared += high[place] * low[place]
            below += low[place]
        result[index, 0] = pairs / (n1 * n0)
        result[index, 1] = 0.5 * shared / (n1 * n0)
        spread = v1 + v0
        result[index, 2] = (m1 - m0) ** 2 / max(spread, 1e-12)


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

    `subject`, `background`: channels x samples. `codes`: candidates x 5, of channel a, channel b, mode (`SINGLE` for a
    channel alone), a inverted, b inverted. Non-finite values are left out.
    """
    result = np.zeros((len(codes), 3))
    _rank(subject, background, codes, result)
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
