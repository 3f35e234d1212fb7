"""What a filter makes of samples, held by the least and the largest of them: no seam that is darker or brighter.

Sums of samples with weights below 0 go beyond what they are made of (overshoot) where edges are hard.
"""

from __future__ import annotations

import math

import numba
import numpy as np
from numpy.typing import NDArray

from nexal.picture import Plane


@numba.njit(cache=True, nogil=True)
def held(value: float, low: float, high: float) -> float:
    """A value within two ends; what is no number stays so."""
    return low if value < low else high if value > high else value


@numba.njit(cache=True, nogil=True)
def looks_beyond(weights: NDArray[np.float64], count: int, first: int, end: int) -> bool:
    """Whether any of `count` weights is not 0 that lies before `first` or from `end` on."""
    beyond = False
    for tap in range(count):
        beyond |= (tap < first or tap >= end) and weights[tap] != 0.0
    return beyond


@numba.njit(cache=True, nogil=True)
def ends(
    source: Plane,
    rows: NDArray[np.int32],
    weights: NDArray[np.float64],
    beyond: bool,
    least: NDArray[np.float64],
    largest: NDArray[np.float64],
) -> None:
    """The least and the largest of each column of some rows of a plane, as far as they weigh something. Where something
    weighs that lies `beyond` the plane, 0 is among them."""
    least[:] = 0.0 if beyond else math.inf
    largest[:] = 0.0 if beyond else -math.inf
    for tap in range(rows.size):
        if weights[tap] != 0.0 and 0 <= rows[tap] < source.shape[0]:
            given = source[rows[tap]]
            for column in range(given.size):
                value = np.float64(given[column])
                least[column] = value if value < least[column] else least[column]
                largest[column] = value if value > largest[column] else largest[column]
