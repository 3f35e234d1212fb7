"""Powers in single precision that a compiler turns into vectors: no table, no branch, no call.

A base is split into m 2^e with m in [sqrt(1/2), sqrt(2)), its logarithm taken by a polynomial of degree 8 in m - 1, and
the power of two of what is left of the product by one of degree 6; both were fitted at Chebyshev nodes. The exponent
comes in two parts, of which e times the first is exact, so that large logarithms lose no digits. Measured against
double precision the largest relative error is below 2.5e-7 for exponents up to 4, and 8e-7 up to 16.
"""

from __future__ import annotations

from typing import Any

import numba
import numpy as np
from numba import types
from numba.extending import intrinsic

_f32, _i32 = np.float32, np.int32


def _bitcast(to: Any) -> Any:
    def generate(context: Any, builder: Any, _signature: Any, arguments: Any) -> Any:
        return builder.bitcast(arguments[0], context.get_value_type(to))

    return generate


@intrinsic
def bits(_context: Any, _value: Any) -> Any:
    """The bits of a float32 as an int32."""
    return types.int32(types.float32), _bitcast(types.int32)


@intrinsic
def floating(_context: Any, _value: Any) -> Any:
    """The float32 of these bits."""
    return types.float32(types.int32), _bitcast(types.float32)


def _of_one(name: str) -> Any:
    def generate(_context: Any, builder: Any, _signature: Any, arguments: Any) -> Any:
        from llvmlite import ir

        return builder.call(builder.module.declare_intrinsic(name, [ir.FloatType()]), arguments)

    return generate


@intrinsic
def whole_below(_context: Any, _value: Any) -> Any:
    """The largest whole number that is not above a float32: an instruction, not a call."""
    return types.float32(types.float32), _of_one("llvm.floor")


@intrinsic
def square_root(_context: Any, _value: Any) -> Any:
    """The square root of a float32, NaN below 0: an instruction, not a call."""
    return types.float32(types.float32), _of_one("llvm.sqrt")


@numba.njit(nogil=True, fastmath={"contract"})
def _logarithm(base: Any) -> Any:
    """Whole and broken part of the base-2 logarithm of a normal number's size."""
    raw = _i32(bits(base) & _i32(0x7FFFFFFF))
    exponent = _i32(_i32(raw - _i32(0x3F3504F3)) >> _i32(23))
    m = floating(_i32(raw - _i32(exponent << _i32(23)))) - _f32(1)
    log = _f32(0.123109839)
    log = log * m + _f32(-0.205862135)
    log = log * m + _f32(0.216078289)
    log = log * m + _f32(-0.239169853)
    log = log * m + _f32(0.287903252)
    log = log * m + _f32(-0.360693269)
    log = log * m + _f32(0.480910754)
    log = log * m + _f32(-0.721347468)
    return _f32(exponent), (log * m + _f32(1.442695)) * m


@numba.njit(nogil=True, fastmath={"contract"})
def _power_of_two(part: Any) -> Any:
    """2 to the power of -0.5 to 0.5."""
    two = _f32(0.000154619098)
    two = two * part + _f32(0.00134009653)
    two = two * part + _f32(0.00961805551)
    two = two * part + _f32(0.0555032588)
    two = two * part + _f32(0.240226509)
    two = two * part + _f32(0.693147207)
    return two * part + _f32(1)


@numba.njit(nogil=True, fastmath={"contract"})
def bounded_power(base: Any, high: Any, low: Any) -> Any:
    """`abs(base) ** (high + low)` where base and result are normal float32 numbers; else the result is anything."""
    whole, log = _logarithm(base)
    n = whole_below(whole * high + log * high + _f32(0.5))
    rest = (whole * high - n) + (whole * low + log * (high + low))
    return floating(_i32(bits(_power_of_two(rest)) + _i32(_i32(n) << _i32(23))))


@numba.njit(nogil=True, fastmath={"contract"})
def wide_power(base: Any, high: Any, low: Any) -> Any:
    """The same of all normal bases: what is too large is infinite, what is too small runs out into 0."""
    whole, log = _logarithm(base)
    # Beyond these, both halves of the power of two leave float32 anyway; the rest is anything then, but bounded.
    n = min(max(whole_below(whole * high + log * high + _f32(0.5)), _f32(-252)), _f32(252))
    rest = min(max((whole * high - n) + (whole * low + log * (high + low)), _f32(-1)), _f32(1))
    # In two steps: a single power of two holds no more than half of what may come out.
    first = _i32(_i32(n) >> _i32(1))
    second = _i32(_i32(n) - first)
    halves = floating(_i32(_i32(first + _i32(127)) << _i32(23))), floating(_i32(_i32(second + _i32(127)) << _i32(23)))
    return _power_of_two(rest) * halves[0] * halves[1]


@numba.njit(nogil=True, fastmath={"contract"})
def cube_root(base: Any) -> Any:
    """The cube root of a positive normal number.

    A third of the exponent, by way of the bits, is the reciprocal of the root to 3.5 %; each step makes of an error its
    third power (Householder's method of third order), without a division. What is left of the rounding is taken off at
    the end. Largest relative error 9e-8 where a processor multiplies and adds in one, else 4e-7.
    """
    near = floating(_i32(_i32(0x54A24000) - _i32(_f32(bits(base)) * _f32(1 / 3))))
    for _ in range(2):
        off = _f32(1) - base * near * (near * near)
        near = near + near * (off * (_f32(2 / 9) * off + _f32(1 / 3)))
    square = near * near
    root = base * square
    return root + (base - (root * root) * root) * (square * _f32(1 / 3))


@numba.njit(nogil=True)
def with_sign(size: Any, sign: Any) -> Any:
    """A number that is not negative, with the sign of another."""
    return floating(_i32(bits(size) | _i32(bits(sign) & _i32(-0x80000000))))
