"""What is not finite, held within bounds where all of a picture is seen: one sample that is endless or no number would
take its surroundings along. No other module of the core has a rule of its own for it.

Light that is endless is as the brightest half float, coverage that is endless is full; what is no number is nothing.
What only works on each pixel by itself passes it on instead.
"""

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


def covering(cover: NDArray[Any]) -> NDArray[Any]:
    """Alpha or coverage of any shape, as a copy: what is no number is 0, what is endless 1 or 0, all else as it is."""
    return np.nan_to_num(cover, nan=0.0, posinf=1.0, neginf=0.0)


def share(values: NDArray[Any]) -> NDArray[Any]:
    """Values held within 0 to 1, as a copy: what is no number is 0."""
    return np.clip(np.nan_to_num(values, nan=0.0), 0, 1)
