"""Noise of a shot, and averages over what only noise tells apart.

References: J. Immerkaer, *Fast Noise Variance Estimation*, CVIU 64, 1996; A. Buades, B. Coll, J. M. Morel, *A Non-Local
Algorithm for Image Denoising*, CVPR 2005.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numba
import numpy as np
from numpy.typing import NDArray

from nexal.kernels.surfaces import FAST
from nexal.kernels.threads import spread
from nexal.picture import Plane

SECOND_DIFFERENCES = np.outer((1, -2, 1), (1, -2, 1)).astype(np.float32) / 6
"""Keeps the variance of white noise and takes out what is locally straight."""
BINS, LEAST_SAMPLES, MOST_SAMPLES, FAR_OFF = 6, 400, 300_000, 2.5
MEDIAN_TO_SIGMA = 0.6745
LEAST_FACTOR = 0.03
"""What the variance falls to at the most: what is left of an average is never taken for free of noise."""
SEARCH, STRENGTH = 5, 0.3
"""How far away like pixels are looked for, and how unlike they may be, where nobody says otherwise."""
ROWS = 24


@dataclass(frozen=True)
class NoiseModel:
    """Variance of the noise of a sample: base + slope x its signal, both at least 0."""

    base: float
    slope: float

    def variance(self, colour: NDArray[np.float32]) -> NDArray[np.float32]:
        """3 x H x W: of each sample of a colour, by its neighbourhood's mean."""
        signal = np.stack([np.maximum(cv2.GaussianBlur(plane, (0, 0), 1.5), 0) for plane in colour])
        made: NDArray[np.float32] = np.float32(self.base) + np.float32(self.slope) * signal
        return made


def noise_of(colour: NDArray[np.float32], mask: NDArray[np.bool_] | None = None) -> NoiseModel:
    """The noise model of a picture, 3 x H x W, or of what a mask holds of it: within some 40 % of the truth.

    In each channel the median of |second differences| / 0.6745 is taken in six bins of signal; a line is laid through
    their squares with relative weights, and bins above 2.5 times the line, which hold texture, are left out.
    """
    levels: list[float] = []
    found: list[float] = []
    for plane in colour:
        rest = np.abs(cv2.filter2D(plane, -1, SECOND_DIFFERENCES))[2:-2, 2:-2].ravel()
        mean = cv2.blur(plane, (5, 5))[2:-2, 2:-2].ravel()
        if mask is not None:
            inner = mask[2:-2, 2:-2].ravel()
            rest, mean = rest[inner], mean[inner]
        if rest.size < LEAST_SAMPLES:
            continue
        every = 1 + rest.size // MOST_SAMPLES
        rest, mean = rest[::every], mean[::every]
        for part in np.array_split(np.argsort(mean, kind="stable"), BINS):
            levels.append(max(0.0, float(mean[part].mean())))
            found.append(float(np.median(rest[part]) / MEDIAN_TO_SIGMA) ** 2)
    return _line(np.array(levels), np.array(found)) if found else NoiseModel(1e-9, 0.0)


def _line(level: NDArray[np.float64], variance: NDArray[np.float64]) -> NoiseModel:
    base = slope = 0.0
    for _ in range(8):
        weight = 1 / np.maximum(variance, 1e-8)
        columns = np.stack([np.ones_like(level), level], axis=1) * weight[:, None]
        base, slope = (float(value) for value in np.linalg.lstsq(columns, variance * weight, rcond=None)[0])
        if base < 0:
            square = weight * weight * level
            base, slope = 0.0, float((square * variance).sum() / max((square * level).sum(), 1e-30))
        if slope < 0:
            base, slope = float(np.median(variance)), 0.0
        good = variance < FAR_OFF * (base + slope * level)
        if good.all() or good.sum() < 4:
            break
        level, variance = level[good], variance[good]
    return NoiseModel(max(base, 1e-9), max(slope, 0.0))


@numba.njit(**FAST)
def _averaged(
    colour: NDArray[np.float32], variance: NDArray[np.float32], radius: int, strength: float, top: int, bottom: int,
    result: NDArray[np.float32], factor: Plane,
) -> None:  # fmt: skip
    _, height, width = colour.shape
    rows = bottom - top
    total, squares = np.zeros((rows, width), np.float32), np.zeros((rows, width), np.float32)
    sums = np.zeros((3, rows, width), np.float32)
    apart, parts = np.zeros(width + 2, np.float32), np.zeros(width, np.float32)
    line = np.zeros((rows + 2, width), np.float32)
    scale, eighth = np.float32(1 / 27), np.float32(1 / (8 * strength))
    for dy in range(-radius, radius + 1):
        for dx in range(-radius, radius + 1):
            left, right = max(0, -dx), min(width, width - dx)
            count = right - left
            if count <= 0:
                continue
            # Rows are cut to what both have, so that the loops over them run in vectors.
            for row in range(rows + 2):
                y = min(max(top + row - 1, 0), height - 1)
                other = min(max(y + dy, 0), height - 1)
                inner = apart[1 : count + 1]
                for c in range(3):
                    own, its = colour[c, y, left:right], colour[c, other, left + dx : right + dx]
                    noise, its_noise = variance[c, y, left:right], variance[c, other, left + dx : right + dx]
                    for x in range(count):
                        gap = own[x] - its[x]
                        far = gap * gap / (noise[x] + its_noise[x])
                        inner[x] = far if c == 0 else inner[x] + far
                apart[0], apart[count + 1] = apart[1], apart[count]
                before, after, into = apart[:count], apart[2 : count + 2], line[row, :count]
                for x in range(count):
                    into[x] = before[x] + inner[x] + after[x]
            for row in range(rows):
                other = top + row + dy
                if other < 0 or other >= height:
                    continue
                above, middle, below = line[row, :count], line[row + 1, :count], line[row + 2, :count]
                for x in range(count):
                    far = (above[x] + middle[x] + below[x]) * scale
                    # (1 - t / 8)^8 for exp(-t): no branch, and 0 from t = 8 on.
                    part = max(np.float32(0), np.float32(1) - max(np.float32(0), far - np.float32(1)) * eighth)
                    part *= part
                    part *= part
                    part *= part
                    parts[x] = part
                weighs, twice = total[row, left:right], squares[row, left:right]
                for x in range(count):
                    weighs[x] += parts[x]
                    twice[x] += parts[x] * parts[x]
                for c in range(3):
                    into, given = sums[c, row, left:right], colour[c, other, left + dx : right + dx]
                    for x in range(count):
                        into[x] += parts[x] * given[x]
    for row in range(rows):
        for x in range(width):
            for c in range(3):
                result[c, top + row, x] = sums[c, row, x] / total[row, x]
            factor[top + row, x] = squares[row, x] / (total[row, x] * total[row, x])


def averaged(
    colour: NDArray[np.float32], variance: NDArray[np.float32], radius: int, strength: float,
    report: Callable[[float], None],
) -> tuple[NDArray[np.float32], Plane]:  # fmt: skip
    """3 x H x W without its noise, and H x W: the factor by which the variance of the noise fell, at least 0.03.

    The mean of the pixels within `radius` whose patches of 3 x 3 agree within the noise: with D the mean of
    difference^2 / (sum of both variances) over patch and channels, each weighs exp(-max(0, D - 1) / strength).
    `report` is told the part that is done and may raise.
    """
    result, factor = np.empty_like(colour), np.empty(colour.shape[1:], np.float32)
    tops = range(0, colour.shape[1], ROWS)
    done = 0

    def strip(top: int) -> None:
        nonlocal done
        bottom = min(top + ROWS, colour.shape[1])
        _averaged(colour, variance, radius, strength, top, bottom, result, factor)
        done += 1
        report(done / len(tops))

    spread(strip, tops)
    return result, np.maximum(factor, np.float32(LEAST_FACTOR))
