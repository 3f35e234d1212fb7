"""Meant values against the samples that stand for them, in one pass."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray

from nexal.kernels.halves import from_halves
from nexal.picture import Plane


@dataclass(frozen=True)
class Measured:
    """Ends of the meant values and of the samples, errors in samples' units, how many pixels lie outside of what the
    samples can hold (or are no number), and how many distinct codes there are (0 for floats)."""

    low: float
    high: float
    first: float
    last: float
    largest: float
    mean: float
    outside: int
    distinct: int


@numba.njit(cache=True, nogil=True)
def _measure(
    plane: NDArray[np.float32], samples: NDArray[Any], most: float, seen: NDArray[np.bool_], result: NDArray[np.float64]
) -> None:
    """`most` is the largest code; 0 where samples are values."""
    low, high, first, last = math.inf, -math.inf, math.inf, -math.inf
    largest = total = 0.0
    outside = counted = 0
    for row in range(plane.shape[0]):
        for column in range(plane.shape[1]):
            value = float(plane[row, column])
            sample = float(samples[row, column])
            if most > 0:
                seen[int(sample)] = True
            if not math.isfinite(value):
                outside += 1
                continue
            counted += 1
            low, high = min(low, value), max(high, value)
            if most > 0:
                first, last = min(first, sample), max(last, sample)
                if value * most < -0.5 or value * most > most + 0.5:
                    outside += 1
                error = abs(sample - min(max(value, 0.0), 1.0) * most)
            else:
                if not math.isfinite(sample):
                    outside += 1
                    continue
                first, last = min(first, sample), max(last, sample)
                error = abs(sample - value)
            largest = max(largest, error)
            total += error
    result[0], result[1], result[2], result[3] = low, high, first, last
    result[4], result[5], result[6] = largest, total / max(counted, 1), outside


def measured(plane: Plane, samples: NDArray[Any], most: int) -> Measured:
    """How samples H x W (codes 0 to `most`, or with `most` 0 values) stand for the values of a plane H x W."""
    seen, result = np.zeros(most + 1, np.bool_), np.zeros(7)
    # Halves are no type of the compiler's.
    wide = from_halves(samples) if samples.dtype == np.float16 else samples
    _measure(np.ascontiguousarray(plane), np.ascontiguousarray(wide), float(most), seen, result)
    distinct = int(np.count_nonzero(seen)) if most else 0
    low, high, first, last, largest, mean, outside = result.tolist()
    return Measured(low, high, first, last, largest, mean, int(outside), distinct)
