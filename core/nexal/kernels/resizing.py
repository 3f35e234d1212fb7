"""A plane in another size, axis by axis: means of exact areas when shrinking, Lanczos when growing.

Reference for the growing filter: C. E. Duchon, *Lanczos Filtering in One and Two Dimensions*, Journal of Applied
Meteorology 1979; here windowed at three lobes.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray

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
def _along_rows(source: Plane, places: NDArray[np.int64], weights: NDArray[np.float64], result: Plane) -> None:
    for row in range(source.shape[0]):
        for column in range(places.shape[0]):
            total = 0.0
            for tap in range(places.shape[1]):
                weight = weights[column, tap]
                if weight != 0.0:
                    total += weight * source[row, places[column, tap]]
            result[row, column] = total


@numba.njit(cache=True, nogil=True)
def _along_columns(source: Plane, places: NDArray[np.int64], weights: NDArray[np.float64], result: Plane) -> None:
    line = np.empty(source.shape[1], np.float64)
    for row in range(places.shape[0]):
        line[:] = 0.0
        for tap in range(places.shape[1]):
            weight = weights[row, tap]
            if weight != 0.0:
                for column in range(source.shape[1]):
                    line[column] += weight * source[places[row, tap], column]
        for column in range(source.shape[1]):
            result[row, column] = line[column]


def resized(source: Plane, top: int, left: int, rows: Taps, columns: Taps) -> Plane:
    """A part of a plane in another size. `source` begins at old pixel (`left`, `top`) and holds all that is tapped.

    Single samples keep the type of the plane.
    """
    if rows.places.shape[1] == columns.places.shape[1] == 1:
        return np.ascontiguousarray(source[np.ix_(rows.places[:, 0] - top, columns.places[:, 0] - left)])
    across = np.empty((source.shape[0], columns.places.shape[0]), np.float32)
    _along_rows(np.ascontiguousarray(source), columns.places - left, columns.weights, across)
    result = np.empty((rows.places.shape[0], across.shape[1]), np.float32)
    _along_columns(across, rows.places - top, rows.weights, result)
    return result
