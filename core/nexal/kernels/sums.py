"""Adding many planes up in one pass over each."""

from __future__ import annotations

import numba

from nexal.picture import Plane


@numba.njit(cache=True, nogil=True)
def add_scaled(total: Plane, plane: Plane, gain: float) -> None:
    """`total += plane * gain`, in place, of planes H x W; both rounded to float32 in turn, as NumPy does it."""
    for row in range(total.shape[0]):
        for column in range(total.shape[1]):
            total[row, column] += plane[row, column] * gain
