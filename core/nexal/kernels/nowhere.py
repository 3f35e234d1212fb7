"""Where a depth or a position says that nothing is there."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nexal.picture import NOTHING_FROM, Plane


def is_nothing(depth: Plane) -> NDArray[np.bool_]:
    """Where renderers write that nothing is there: not finite, or beyond 1e7 on either side."""
    with np.errstate(invalid="ignore"):
        found: NDArray[np.bool_] = ~(np.abs(depth) < np.float32(NOTHING_FROM))
    return found


def is_nowhere(places: NDArray[np.floating[Any]] | Sequence[Plane]) -> NDArray[np.bool_]:
    """Where three axes (3 x ...) are no place: one of them is nothing, or all are exactly 0, as renderers leave it."""
    x, y, z = places
    found: NDArray[np.bool_] = is_nothing(x) | is_nothing(y) | is_nothing(z) | ((x == 0) & (y == 0) & (z == 0))
    return found
