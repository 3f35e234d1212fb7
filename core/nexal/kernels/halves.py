"""Float32 to half float, rounded to the nearest, ties to even: several times faster than NumPy's conversion."""

from __future__ import annotations

import platform
from typing import Any

import numba
import numpy as np
from llvmlite import binding, ir
from numba import types
from numba.extending import intrinsic
from numpy.typing import NDArray

from nexal.picture import Plane

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


@numba.njit(cache=True, nogil=True)
def _convert(values: Plane, bits: NDArray[np.uint32], result: NDArray[np.uint16]) -> None:
    for index in range(values.size):
        half = _rounded(values[index])
        nothing = np.uint16(0x7E00) | np.uint16((bits[index] >> np.uint32(16)) & np.uint32(0x8000))
        result[index] = half if values[index] == values[index] else nothing


@numba.njit(cache=True, nogil=True)
def _convert_bits(values: Plane, bits: NDArray[np.uint32], result: NDArray[np.uint16]) -> None:
    for index in range(values.size):
        size = bits[index] & np.uint32(0x7FFFFFFF)
        # Halves below 2**-14 are whole multiples of 2**-24.
        small = np.uint32(np.rint(abs(values[index]) * np.float32(2**24))) if size < SMALLEST_NORMAL else np.uint32(0)
        # Exponent bias 127 to 15, half of the last place added, one less where the last kept bit is even.
        normal = (size + np.uint32(0xC8000FFF) + ((size >> np.uint32(13)) & np.uint32(1))) >> np.uint32(13)
        large = np.uint32(0x7E00) if size > np.uint32(0x7F800000) else np.uint32(0x7C00)
        half = large if size >= OVERFLOW else (small if size < SMALLEST_NORMAL else normal)
        result[index] = np.uint16(half | ((bits[index] >> np.uint32(16)) & np.uint32(0x8000)))


def _knows_halves() -> bool:
    if platform.machine() != "x86_64":
        return platform.machine() in ("aarch64", "arm64")
    try:
        return bool(binding.get_host_cpu_features().get("f16c"))
    except RuntimeError:
        return False


_converted = _convert if _knows_halves() else _convert_bits


def write_halves(plane: Plane, result: NDArray[np.uint16]) -> None:
    """Write the half floats of a plane H x W, as their bits, into a contiguous array of the same size."""
    values = np.ascontiguousarray(plane, np.float32).reshape(-1)
    _converted(values, values.view(np.uint32), result.reshape(-1))


def to_halves(plane: Plane) -> NDArray[np.float16]:
    """A plane H x W as half floats: rounded to the nearest, ties to even (IEEE 754); what is too large is infinite."""
    result = np.empty(plane.shape, np.uint16)
    write_halves(plane, result)
    return result.view(np.float16)
