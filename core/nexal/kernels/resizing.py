"""A plane in another size, axis by axis: means of exact areas when shrinking, Lanczos when growing.

Reference for the growing filter: C. E. Duchon, *Lanczos Filtering in One and Two Dimensions*, Journal of Applied
Meteorology 1979; here windowed at three lobes.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import cv2
import numba
import numpy as np
from numpy.typing import NDArray

from nexal.kernels.holding import ends, held
from nexal.kernels.threads import bands, spread
from nexal.memory import empty
from nexal.picture import Plane

LOBES = 3


@dataclass(frozen=True)
class Taps:
    """For each of a run of new pixels, the old pixels that it is made of and their weights (rows add up to 1)."""

    places: NDArray[np.int64]
    weights: NDArray[np.float64]

    @property
    def first(self) -> int:
        return int(self.places.min())

    @property
    def last(self) -> int:
        return int(self.places.max())

    def since(self, first: int) -> tuple[NDArray[np.int32], NDArray[np.float64]]:
        """Places counted from an old pixel, and weights, without taps that weigh nothing anywhere."""
        used = np.any(self.weights, axis=0)
        return (self.places[:, used] - first).astype(np.int32), np.ascontiguousarray(self.weights[:, used])


def _sinc(distance: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.where(np.abs(distance) < LOBES, np.sinc(distance) * np.sinc(distance / LOBES), 0)


def _nearest(start: NDArray[np.float64], ratio: float) -> tuple[NDArray[Any], NDArray[Any]]:
    places = np.floor(start + ratio / 2)[:, None]
    return places, np.ones_like(places)


def _area(start: NDArray[np.float64], ratio: float) -> tuple[NDArray[Any], NDArray[Any]]:
    places = np.floor(start)[:, None] + np.arange(int(np.ceil(ratio)) + 1)
    left, right = np.maximum(places, start[:, None]), np.minimum(places + 1, start[:, None] + ratio)
    return places, np.maximum(right - left, 0)


def _lanczos(start: NDArray[np.float64], ratio: float) -> tuple[NDArray[Any], NDArray[Any]]:
    width = max(1.0, ratio)
    centre = start + ratio / 2
    reach = int(np.ceil(LOBES * width))
    places = np.floor(centre - 0.5)[:, None] + np.arange(1 - reach, reach + 1)
    return places, _sinc((places + 0.5 - centre[:, None]) / width)


_FILTERS: dict[str, Callable[..., tuple[NDArray[Any], NDArray[Any]]]] = {
    "nearest": _nearest,
    "area": _area,
    "lanczos": _lanczos,
}


@lru_cache(maxsize=32)
def taps(first: float, count: int, ratio: float, ends: tuple[int, int], kind: str) -> Taps:
    """What `count` new pixels from `first` on are made of, along one axis of a plane of
    old pixels from the first to before the second of `ends`.

    `first` may lie between two pixels. `ratio` is how many old pixels one new pixel is wide. `kind` is nearest, area,
    lanczos, or auto: area where it shrinks, Lanczos where it grows. Beyond its ends the plane goes on as its last
    pixel.
    """
    if kind == "auto":
        kind = "area" if ratio >= 1 else "lanczos"
    start = (first + np.arange(count, dtype=np.float64)) * ratio
    places, weights = _FILTERS[kind](start, ratio)
    weights = weights / weights.sum(axis=1, keepdims=True)
    return Taps(np.clip(places, ends[0], ends[1] - 1).astype(np.int64), weights)


@numba.njit(cache=True, nogil=True)
def _summed(source: Plane, places: NDArray[np.int32], weights: NDArray[np.float64], line: NDArray[np.float64]) -> None:
    """Rows of a plane, weighted and added up."""
    line[:] = 0.0
    for tap in range(places.size):
        weight = weights[tap]
        if weight != 0.0:
            given = source[places[tap]]
            for column in range(line.size):
                line[column] += weight * given[column]


@numba.njit(cache=True, nogil=True)
def _tapped(
    line: NDArray[Any], places: NDArray[np.int32], weights: NDArray[np.float64], made: NDArray[np.float64]
) -> None:
    """Samples of a line, weighted and added up; places and weights are taps x samples."""
    made[:] = 0.0
    for tap in range(places.shape[0]):
        own, share = places[tap], weights[tap]
        for column in range(made.size):
            # What weighs nothing may be no number.
            part = share[column] * line[own[column]]
            made[column] += part if share[column] != 0.0 else 0.0


@numba.njit(cache=True, nogil=True)
def _smaller(
    source: Plane, rows: NDArray[np.int32], down: NDArray[np.float64], columns: NDArray[np.int32],
    across: NDArray[np.float64], overshoot: bool, result: Plane, first: int, last: int,
) -> None:  # fmt: skip
    """New rows `first` to `last`, each made of rows and then along itself."""
    width, count = source.shape[1], columns.shape[1]
    line, made = np.empty(width), np.empty(count)
    lows, highs, low, high = np.empty(width), np.empty(width), np.empty(count), np.empty(count)
    for row in range(first, last):
        _summed(source, rows[row], down[row], line)
        _tapped(line, columns, across, made)
        if not overshoot:
            ends(source, rows[row], down[row], False, lows, highs)
            low[:], high[:] = np.inf, -np.inf
            for tap in range(columns.shape[0]):
                own, share = columns[tap], across[tap]
                for column in range(count):
                    less = lows[own[column]] if share[column] != 0.0 else np.inf
                    more = highs[own[column]] if share[column] != 0.0 else -np.inf
                    low[column] = less if less < low[column] else low[column]
                    high[column] = more if more > high[column] else high[column]
            for column in range(count):
                made[column] = held(made[column], low[column], high[column])
        result[row] = made


@numba.njit(cache=True, nogil=True)
def _wider(
    source: Plane, columns: NDArray[np.int32], across: NDArray[np.float64], result: Plane, first: int, last: int
) -> None:
    made = np.empty(columns.shape[1])
    for row in range(first, last):
        _tapped(source[row], columns, across, made)
        result[row] = made


@numba.njit(cache=True, nogil=True)
def _taller(
    source: Plane, rows: NDArray[np.int32], down: NDArray[np.float64], result: Plane, first: int, last: int
) -> None:
    line = np.empty(source.shape[1])
    for row in range(first, last):
        _summed(source, rows[row], down[row], line)
        result[row] = line


def _blocks(places: NDArray[np.int32], weights: NDArray[np.float64]) -> int:
    """How many old pixels each new one is the plain mean of, where they lie side by side; else 0."""
    count, n = places.shape
    plain = np.allclose(weights, 1 / n, rtol=0, atol=1e-12)
    return n if plain and np.array_equal(places.ravel(), places[0, 0] + np.arange(count * n)) else 0


ROWS = 8
"""Rows that a thread does at a time, at the least."""


def resized(source: Plane, top: int, left: int, rows: Taps, columns: Taps, overshoot: bool = True) -> Plane:
    """A part of a plane in another size. `source` begins at old pixel (`left`, `top`) and holds all that is tapped.

    Single samples keep the type of the plane. Without `overshoot` no value lies below the least or above the largest
    of the samples that it is made of.
    """
    if rows.places.shape[1] == columns.places.shape[1] == 1:
        return np.ascontiguousarray(source[np.ix_(rows.places[:, 0] - top, columns.places[:, 0] - left)])
    (above, down), (beside, across) = rows.since(top), columns.since(left)
    if (n := _blocks(above, down)) and (m := _blocks(beside, across)):
        height, width = len(above), len(beside)
        part = source[above[0, 0] : above[0, 0] + n * height, beside[0, 0] : beside[0, 0] + m * width]
        return cv2.resize(
            np.ascontiguousarray(part), (width, height), empty((height, width)), interpolation=cv2.INTER_AREA
        )
    source = np.ascontiguousarray(source)
    beside, across = np.ascontiguousarray(beside.T), np.ascontiguousarray(across.T)
    height, width = len(above), beside.shape[1]
    result = empty((height, width))
    # Means of areas make nothing beyond what they are made of.
    free = overshoot or min(down.min(), across.min()) >= 0
    if height <= source.shape[0] or not free:
        spread(lambda band: _smaller(source, above, down, beside, across, free, result, *band), bands(height, ROWS))
        return result
    # Where it grows, fewer rows are sampled along themselves before there are more of them.
    wide = empty((source.shape[0], width))
    spread(lambda band: _wider(source, beside, across, wide, *band), bands(source.shape[0], ROWS))
    spread(lambda band: _taller(wide, above, down, result, *band), bands(height, ROWS))
    return result
