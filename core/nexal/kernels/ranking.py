"""How well crossings of two channels part two sets of samples: many candidates, each crossed as the step will be.

Areas under the ROC curve come from histograms of the
values; the error is at most half the pairs that share a bin.
"""

from __future__ import annotations

import math

import numba
import numpy as np
from numpy.typing import NDArray

from nexal.kernels.blending import BLENDS
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
def _figures(inside: Plane, outside: Plane) -> tuple[float, float, float]:
    """Area under the ROC curve of two sets of values, its largest error, and their Fisher ratio."""
    n1, n0 = inside.shape[0], outside.shape[0]
    high, low = np.zeros(BINS, np.int32), np.zeros(BINS, np.int32)
    m1, v1 = _gather(inside, high)
    m0, v0 = _gather(outside, low)
    below, pairs, shared = 0, 0.0, 0.0
    for place in range(BINS):
        if high[place]:
            pairs += high[place] * (below + 0.5 * low[place])
            shared += float(high[place]) * low[place]
        below += low[place]
    return pairs / n1 / n0, 0.5 * shared / n1 / n0, (m1 - m0) ** 2 / max(v1 + v0, 1e-12)


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
    both = [np.concatenate([planes, np.float32(1) - planes]) for planes in (subject, background)]
    for index, code in enumerate(codes.tolist()):
        result[index] = _figures(*(_crossed(planes, code) for planes in both))
    return result


def crossed(planes: Plane, code: Codes) -> Plane:
    """The values of one candidate, N, over `planes`, channels x N; `code` is of the five numbers that `rank` takes."""
    return _crossed(np.concatenate([planes, np.float32(1) - planes]), code.tolist())


def _crossed(planes: Plane, code: list[int]) -> Plane:
    """Like `crossed`, of planes behind which every plane stands turned round."""
    a, b, mode, invert_a, invert_b = code
    channels = len(planes) // 2
    backdrop = planes[a + channels * invert_a]
    if mode == SINGLE:
        return backdrop
    values: Plane = BLENDS[MODES[mode]](backdrop, planes[b + channels * invert_b])
    return values


def quality(plane: Plane, edges: NDArray[np.bool_], black: float, white: float) -> tuple[float, float]:
    """Part of the gradient at `edges` that a clipped stretch keeps, and the noise of the stretched plane.

    Noise: median of the absolute Laplacian of the unclipped result, as the standard deviation that white noise of a
    normal distribution would need for it (median |N| = 0.6745, Laplacian of variance 20).
    """
    kept, median = _quality(plane, edges, black, white, np.zeros(4096, np.int64))
    return kept, median / (0.6745 * math.sqrt(20))
