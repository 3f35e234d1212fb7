"""Light that sums and solvers can take: one sample that is endless or none would take its surroundings along."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import DTypeLike, NDArray

MOST_LIGHT = np.float32(65504.0)
"""The largest half float: beyond it no light is told apart."""


def bounded(light: NDArray[Any], kind: DTypeLike = np.float32) -> NDArray[Any]:
    """A contiguous copy, of a type of numbers, of light of any shape: what is no number is 0, and what lies beyond
    `MOST_LIGHT` to either side, endless or not, is that."""
    held = np.clip(light, -MOST_LIGHT, MOST_LIGHT).astype(kind, order="C", copy=False)
    return np.nan_to_num(held, copy=False)
