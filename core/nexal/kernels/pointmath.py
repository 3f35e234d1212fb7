"""Functions that point operations are written with.

Each takes and returns a *value*: a float32 array, a number, or a value that is being recorded (`kernels/recording.py`),
on which NumPy's universal functions and the arithmetic operators work. Nothing here looks at shapes or branches on what
a pixel holds, so that a chain of point operations is recorded once and run in one pass.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from nexal.kernels.instructions import Op
from nexal.kernels.recording import one_instruction

Value = Any

_LINEAR_END = np.float32(0.0031308)
_ENCODED_END = np.float32(0.04045)


def clip(value: Value, low: float, high: float) -> Value:
    """`value` held between `low` and `high`; NaN stays NaN."""
    return np.minimum(np.maximum(value, np.float32(low)), np.float32(high))


def minimum(a: Value, b: Value) -> Value:
    """The smaller of two values, pixel by pixel; NaN where one is NaN."""
    return np.minimum(a, b)


def maximum(a: Value, b: Value) -> Value:
    """The larger of two values, pixel by pixel; NaN where one is NaN."""
    return np.maximum(a, b)


def absolute(value: Value) -> Value:
    """A value without its sign."""
    return np.abs(value)


def where(condition: Value, yes: Value, no: Value) -> Value:
    """`yes` where the condition holds, else `no`; both sides are computed."""
    return np.where(condition, yes, no)


def power(base: Value, exponent: Value) -> Value:
    """`base ** exponent` in float32; a negative base with a fractional exponent gives NaN without a complaint."""
    with np.errstate(all="ignore"):
        return np.power(base, np.float32(exponent) if isinstance(exponent, (int, float)) else exponent)


def signed_power(base: Value, exponent: float) -> Value:
    """`sign(base) * abs(base) ** exponent`."""
    if exponent == 1:
        return base
    return np.copysign(power(np.abs(base), exponent), base)


def square_root(value: Value) -> Value:
    """The square root; NaN below 0, without a complaint."""
    with np.errstate(invalid="ignore"):
        return np.sqrt(value)


def safe_divide(a: Value, b: Value) -> Value:
    """`a / b`, and 0 where `b` is 0."""
    with np.errstate(all="ignore"):
        return np.where(b == 0, np.float32(0), np.divide(a, b))


def unpremultiplied(colour: Value, alpha: Value) -> Value:
    """`colour / alpha` where alpha is above 0; elsewhere the colour as it is."""
    return where(alpha > 0, safe_divide(colour, alpha), colour)


def uncovered(mixed: Value, alpha: Value, backing: Value) -> Value:
    """Straight colour f of a mix f alpha + backing (1 - alpha); 0 where alpha is not above 0."""
    return where(alpha > 0, safe_divide(mixed - backing * (np.float32(1) - alpha), alpha), np.float32(0))


def lerp(a: Value, b: Value, amount: Value) -> Value:
    """`a + (b - a) * amount`."""
    return a + (b - a) * amount


def weighted_sum(values: Sequence[Value], gains: Sequence[float]) -> Value:
    """`values[0] * gains[0] + values[1] * gains[1] + ...`, from left to right; 0 where there is none."""
    total: Value = np.float32(0)
    for value, gain in zip(values, gains, strict=True):
        total = total + (value if gain == 1 else value * np.float32(gain))
    return total


def smoothstep(low: float, high: float, value: Value) -> Value:
    """0 below `low`, 1 above `high`, 3t^2 - 2t^3 between; a step at `high` where both are equal."""
    if high <= low:
        return np.where(value >= np.float32(high), np.float32(1), np.float32(0))
    t = clip((value - np.float32(low)) * np.float32(1 / (high - low)), 0, 1)
    return t * t * (np.float32(3) - np.float32(2) * t)


@one_instruction(Op.ENCODE)
def encode(value: Value) -> Value:
    """Scene-linear to sRGB-encoded (IEC 61966-2-1), odd-symmetric and continued above 1 by the same power law."""
    size = np.abs(value)
    curve = np.float32(1.055) * power(size, 1 / 2.4) - np.float32(0.055)
    return np.copysign(np.where(size <= _LINEAR_END, np.float32(12.92) * size, curve), value)


@one_instruction(Op.DECODE)
def decode(value: Value) -> Value:
    """sRGB-encoded to scene-linear, the inverse of `encode`."""
    size = np.abs(value)
    curve = power((size + np.float32(0.055)) * np.float32(1 / 1.055), 2.4)
    return np.copysign(np.where(size <= _ENCODED_END, size * np.float32(1 / 12.92), curve), value)
