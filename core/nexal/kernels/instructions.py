"""The instructions of `kernels/machine.py`, for those who write programs."""

from __future__ import annotations

from enum import IntEnum

import numpy as np


class Op(IntEnum):
    """What an instruction does to its registers a, b, c; truth is 1 or 0."""

    COPY = 0
    X = 1
    """Pixel centres from left to right."""
    Y = 2
    ADD = 3
    SUBTRACT = 4
    MULTIPLY = 5
    DIVIDE = 6
    MINIMUM = 7
    MAXIMUM = 8
    ABSOLUTE = 9
    NEGATIVE = 10
    SQUARE_ROOT = 11
    CUBE_ROOT = 12
    LESS = 13
    LESS_EQUAL = 14
    EQUAL = 15
    NOT_EQUAL = 16
    AND = 17
    OR = 18
    NOT = 19
    FINITE = 20
    WHERE = 21
    """b where a holds, else c."""
    COPYSIGN = 22
    ENCODE = 23
    DECODE = 24
    POWER = 25
    """a to the power of a number, which comes in two parts in b and c."""
    FLOOR = 26
    MULTIPLY_ADD = 27
    """a b + c, rounded twice."""
    CLIP = 28
    """The smaller of c and the larger of a and b."""


ROW = 512
"""Pixels of a register: two kilobytes, so that some twenty stay in the innermost cache. Measured: 256 and 1,024 are
slower by 5 to 10 %."""

LARGEST_EXPONENT = 16.0
"""Of what `Op.POWER` takes with a relative error below 1e-6."""
_STEPS = 4096
"""The first part of an exponent has so many steps to a unit: its product with a whole logarithm is exact."""


def split_exponent(exponent: float) -> tuple[np.float32, np.float32]:
    """An exponent in two parts: a short one, and the rest. See `kernels/powers.py`."""
    high = np.round(exponent * _STEPS) / _STEPS
    return np.float32(high), np.float32(exponent - high)
