"""What a layer is by what it holds, where its name says nothing."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nexal.formats.roles import Role
from nexal.formats.statistics import as_float
from nexal.picture import Plane

SIDE = 96
"""Rows and columns looked at, spread evenly."""
LEAST = 64
"""Finite pixels that a judgement needs."""
MOST = 0.9
"""Part of the pixels that has to agree: edges that were smoothed do not."""
UNIT = 0.03
"""How far the length of a normal may be from 1."""


def _looked_at(samples: NDArray[Any]) -> Plane:
    rows, columns = (max(1, size // SIDE) for size in samples.shape)
    return as_float(np.ascontiguousarray(samples[::rows, ::columns])).ravel()


def role_by_content(channels: Sequence[NDArray[Any]]) -> Role | None:
    """Role of a layer of one, two or three planes of samples (H x W, as stored), or None where nothing speaks for one.

    - three: `normal` where the vectors have the length 1 (also packed into 0..1), `position` where values are negative
      and beyond 1
    - two: `uv` within 0..1, `motion` where they go both ways
    - one: `id` where floats are whole numbers, `mask` within 0..1, `depth` where it is positive everywhere and beyond 1
    """
    if len({plane.shape for plane in channels}) != 1 or len(channels) > 3:
        return None
    values = np.stack([_looked_at(plane) for plane in channels])
    values = values[:, np.isfinite(values).all(axis=0)]
    if values.shape[1] < LEAST or np.ptp(values) == 0:
        return None
    if len(values) == 3:
        return _of_three(values)
    if len(values) == 2:
        return _of_two(values)
    return _of_one(values[0], whole_numbers=not np.issubdtype(channels[0].dtype, np.integer))


def _unit(values: NDArray[np.float32]) -> bool:
    lengths = np.sqrt((values * values).sum(axis=0))
    set_ = lengths > 0
    return bool(set_.sum() >= LEAST and (np.abs(lengths[set_] - 1) < UNIT).mean() >= MOST)


def _of_three(values: NDArray[np.float32]) -> Role | None:
    low, high = float(values.min()), float(values.max())
    if low < -UNIT and _unit(values):
        return Role("normal", "vectors of length 1")
    if low >= 0 and high <= 1:
        # A vector packed into 0..1; where nothing is, renderers leave 0 or the middle.
        packed = values[:, (values > 0).any(axis=0)] * 2 - 1
        packed = packed[:, np.abs(packed).max(axis=0) > UNIT]
        if packed.shape[1] and _unit(packed) and np.ptp(packed) > UNIT:
            return Role("normal", "vectors of length 1, packed into 0 to 1")
    if (values < 0).any(axis=0).mean() > 1 - MOST and max(-low, high) > 1.5:
        return Role("position", f"values on both sides of 0, from {low:.4g} to {high:.4g}")
    return None


def _of_two(values: NDArray[np.float32]) -> Role | None:
    low, high = float(values.min()), float(values.max())
    if low >= 0 and high <= 1:
        return Role("uv", "two channels from 0 to 1")
    if low < 0 < high:
        return Role("motion", f"two channels on both sides of 0, from {low:.4g} to {high:.4g}")
    return None


def _of_one(values: NDArray[np.float32], *, whole_numbers: bool) -> Role | None:
    low, high = float(values.min()), float(values.max())
    if low >= 0 and high <= 1:
        return Role("mask", "all values from 0 to 1")
    if whole_numbers and low >= 0 and np.all(values == np.round(values)):
        return Role("id", f"whole numbers up to {high:.0f}")
    if low > 0.02 * float(np.median(values)):
        return Role("depth", f"positive everywhere, from {low:.4g} to {high:.4g}")
    return None
