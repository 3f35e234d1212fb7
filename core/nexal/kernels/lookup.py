"""What few codes stand for, read from a table."""

from __future__ import annotations

from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray

from nexal.memory import empty


@numba.njit(nogil=True, cache=True)
def _look_up(table: NDArray[Any], codes: NDArray[Any], out: NDArray[Any]) -> None:
    for row in range(codes.shape[0]):
        for column in range(codes.shape[1]):
            out[row, column] = table[codes[row, column]]


def looked_up(table: NDArray[Any], codes: NDArray[Any], out: NDArray[Any] | None = None) -> NDArray[Any]:
    """`table[codes]` for codes of 8 or 16 bit, shape (height, width): a third of the time that NumPy takes.

    The table has a value for each code there can be, 256 or 65,536: float32, or bytes of codes of 16 bit. The result
    has its type; it is `out`, where that is given.
    """
    if len(table) != 1 << 8 * codes.itemsize:
        raise ValueError(f"a table of {len(table)} values for codes of {8 * codes.itemsize} bit")
    # One kernel for each kind of code, whichever memory they come from.
    codes = np.ascontiguousarray(codes).view()
    table = table.view()
    codes.flags.writeable = table.flags.writeable = False
    if out is None:
        out = empty(codes.shape, table.dtype)
    _look_up(table, codes, out)
    return out
