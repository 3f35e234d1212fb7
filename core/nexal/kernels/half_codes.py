"""What turns float32 into half floats and back, compiled ahead (`kernels/ahead.py`); see `kernels/halves.py`.

Of each there are two: by the processor's instruction, for those that have it, and by the bits.
"""

from __future__ import annotations

from typing import Any

import numba
import numpy as np
from llvmlite import ir
from numba import types
from numba.extending import intrinsic

from nexal.kernels.addresses import pointer
from nexal.kernels.powers import bits, floating

SMALLEST_NORMAL = np.uint32(0x38800000)
"""Bits of 2**-14, the smallest normal half."""
OVERFLOW = np.uint32(0x47800000)
"""Bits of 2**16, from where on a float32 is infinite (or not a number) as a half."""


@intrinsic
def _rounded(_context: Any, _value: Any) -> Any:
    """The bits of a float32 as a half float: one instruction for many of them, where the processor has it."""

    def generate(_own: Any, builder: Any, _signature: Any, arguments: Any) -> Any:
        return builder.bitcast(builder.fptrunc(arguments[0], ir.HalfType()), ir.IntType(16))

    return types.uint16(types.float32), generate


@intrinsic
def _widened(_context: Any, _bits: Any) -> Any:
    """The float32 that the bits of a half float stand for, by one instruction for many of them."""

    def generate(_own: Any, builder: Any, _signature: Any, arguments: Any) -> Any:
        return builder.fpext(builder.bitcast(arguments[0], ir.HalfType()), ir.FloatType())

    return types.float32(types.uint16), generate


@numba.njit(nogil=True)
def narrow(values_at: int, halves_at: int, count: int) -> None:
    values = numba.carray(pointer(values_at), (count,), np.float32)
    halves = numba.carray(pointer(halves_at), (count,), np.uint16)
    for index in range(count):
        value = values[index]
        nothing = np.uint16(0x7E00) | np.uint16((bits(value) >> np.uint32(16)) & np.uint32(0x8000))
        halves[index] = _rounded(value) if value == value else nothing


@numba.njit(nogil=True)
def narrow_by_bits(values_at: int, halves_at: int, count: int) -> None:
    values = numba.carray(pointer(values_at), (count,), np.float32)
    halves = numba.carray(pointer(halves_at), (count,), np.uint16)
    for index in range(count):
        whole = np.uint32(bits(values[index]))
        size = whole & np.uint32(0x7FFFFFFF)
        # Halves below 2**-14 are whole multiples of 2**-24.
        small = np.uint32(np.rint(abs(values[index]) * np.float32(2**24))) if size < SMALLEST_NORMAL else np.uint32(0)
        # Exponent bias 127 to 15, half of the last place added, one less where the last kept bit is even.
        normal = (size + np.uint32(0xC8000FFF) + ((size >> np.uint32(13)) & np.uint32(1))) >> np.uint32(13)
        large = np.uint32(0x7E00) if size > np.uint32(0x7F800000) else np.uint32(0x7C00)
        half = large if size >= OVERFLOW else (small if size < SMALLEST_NORMAL else normal)
        halves[index] = np.uint16(half | ((whole >> np.uint32(16)) & np.uint32(0x8000)))


@numba.njit(nogil=True)
def widen(halves_at: int, values_at: int, count: int) -> None:
    halves = numba.carray(pointer(halves_at), (count,), np.uint16)
    values = numba.carray(pointer(values_at), (count,), np.float32)
    for index in range(count):
        values[index] = _widened(halves[index])


@numba.njit(nogil=True)
def widen_by_bits(halves_at: int, values_at: int, count: int) -> None:
    halves = numba.carray(pointer(halves_at), (count,), np.uint16)
    values = numba.carray(pointer(values_at), (count,), np.float32)
    for index in range(count):
        size = np.uint32(halves[index] & np.uint16(0x7FFF))
        # Exponent and fraction in their places are the number by 2**-112, also where it is below the normal ones.
        value = floating(np.int32(size << np.uint32(13))) * np.float32(2.0**112)
        beyond = np.uint32(0x7F800000) if size >= np.uint32(0x7C00) else np.uint32(0)
        sign = np.uint32(halves[index] & np.uint16(0x8000)) << np.uint32(16)
        values[index] = floating(np.int32(np.uint32(bits(value)) | beyond | sign))
