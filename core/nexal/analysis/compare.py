"""How far two pictures are apart, channel by channel."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

import numpy as np

from nexal.picture import Plane


def difference(a: Plane, b: Plane) -> dict[str, Any]:
    """Largest and mean absolute difference and PSNR (peak 1) of two planes of one shape.

    Equal non-finite values at the same place count as equal; others make `max` None and are counted. PSNR is None
    where the planes are equal.
    """
    with np.errstate(invalid="ignore"):
        gap = np.abs(a.astype(np.float64) - b)
    same = (a == b) | (np.isnan(a) & np.isnan(b))
    gap[same] = 0
    odd = int(np.count_nonzero(~np.isfinite(gap)))
    finite = gap[np.isfinite(gap)] if odd else gap
    square = float(np.mean(finite**2)) if finite.size else 0.0
    row: dict[str, Any] = {
        "max": None if odd else float(finite.max(initial=0)),
        "mean": float(finite.mean()) if finite.size else None,
        "psnr": None if square == 0 else -10 * math.log10(square),
    }
    return row | ({"non_finite": odd} if odd else {})


def compare(a: Mapping[str, Plane], b: Mapping[str, Plane]) -> dict[str, dict[str, Any]]:
    """`difference` for every channel that both have."""
    return {name: difference(a[name], b[name]) for name in a if name in b}


def exceeds(rows: Mapping[str, Mapping[str, Any]], tolerance: float) -> list[str]:
    """Channels whose largest difference is above the tolerance, or where one is finite and the other is not."""
    return [name for name, row in rows.items() if row["max"] is None or row["max"] > tolerance]
