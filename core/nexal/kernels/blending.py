"""Blend functions B(backdrop, source) and the compositing operators of Porter and Duff.

References: W3C, *Compositing and Blending Level 1*; Porter, Duff, *Compositing Digital Images*, SIGGRAPH 1984.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from nexal.kernels.pointmath import Value, absolute, clip, maximum, minimum, safe_divide, square_root, where

Blend = Callable[[Value, Value], Value]

ONE = np.float32(1)
TWO = np.float32(2)
HALF = np.float32(0.5)


def _screen(cb: Value, cs: Value) -> Value:
    return cb + cs - cb * cs


def _hard_light(cb: Value, cs: Value) -> Value:
    return where(cs <= HALF, cb * (TWO * cs), _screen(cb, TWO * cs - ONE))


def _color_dodge(cb: Value, cs: Value) -> Value:
    return where(cb == 0, np.float32(0), where(cs == 1, ONE, minimum(ONE, safe_divide(cb, ONE - cs))))


def _color_burn(cb: Value, cs: Value) -> Value:
    return where(cb == 1, ONE, where(cs == 0, np.float32(0), ONE - minimum(ONE, safe_divide(ONE - cb, cs))))


def _soft_light(cb: Value, cs: Value) -> Value:
    curve = where(
        cb <= np.float32(0.25), ((np.float32(16) * cb - np.float32(12)) * cb + np.float32(4)) * cb, square_root(cb)
    )
    darker = cb - (ONE - TWO * cs) * cb * (ONE - cb)
    return where(cs <= HALF, darker, cb + (TWO * cs - ONE) * (curve - cb))


def _clamped(blend: Blend) -> Blend:
    return lambda cb, cs: blend(clip(cb, 0, 1), clip(cs, 0, 1))


BLENDS: dict[str, Blend] = {
    "normal": _clamped(lambda cb, cs: cs),
    "multiply": lambda cb, cs: cb * cs,
    "screen": _clamped(_screen),
    "overlay": _clamped(lambda cb, cs: _hard_light(cs, cb)),
    "darken": minimum,
    "lighten": maximum,
    "color-dodge": _clamped(_color_dodge),
    "color-burn": _clamped(_color_burn),
    "hard-light": _clamped(_hard_light),
    "soft-light": _clamped(_soft_light),
    "difference": lambda cb, cs: absolute(cb - cs),
    "exclusion": _clamped(lambda cb, cs: cb + cs - TWO * cb * cs),
    "add": lambda cb, cs: cb + cs,
    "subtract": lambda cb, cs: cb - cs,
    "divide": safe_divide,
    "average": lambda cb, cs: (cb + cs) * HALF,
}
"""Every B(cb, cs) by name; those that keep values outside [0, 1] are the ones that do not clamp their inputs."""

HOLDING = frozenset(
    {"normal", "screen", "overlay", "color-dodge", "color-burn", "hard-light", "soft-light", "exclusion"}
)
"""Blend functions that hold both of their inputs at 0 and 1."""

FACTORS: dict[str, Callable[[Value, Value], tuple[Value, Value]]] = {
    "over": lambda over, under: (ONE, ONE - over),
    "under": lambda over, under: (ONE - under, ONE),
    "in": lambda over, under: (under, np.float32(0)),
    "out": lambda over, under: (ONE - under, np.float32(0)),
    "atop": lambda over, under: (under, ONE - over),
    "xor": lambda over, under: (ONE - under, ONE - over),
    "plus": lambda over, under: (ONE, ONE),
}
"""Porter and Duff's factors (for the upper, for the lower picture) from the two alphas, on premultiplied values."""


def straight(colour: Value, alpha: Value) -> Value:
    """Premultiplied colour divided by its alpha, any one shape; 0 where alpha is 0."""
    return safe_divide(colour, alpha)


def composite(mode: str, under: Value, under_alpha: Value, over: Value, over_alpha: Value) -> Value:
    """One premultiplied colour channel of `over` upon `under`, by operator or blend function.

    Blend functions: co = cs (1 - ab) + cb (1 - as) + as ab B(Cb, Cs), with C the straight colours.
    """
    if mode in FACTORS:
        for_over, for_under = FACTORS[mode](over_alpha, under_alpha)
        return over * for_over + under * for_under
    blended = BLENDS[mode](straight(under, under_alpha), straight(over, over_alpha))
    return over * (ONE - under_alpha) + under * (ONE - over_alpha) + over_alpha * under_alpha * blended


def composite_alpha(mode: str, under: Value, over: Value) -> Value:
    """Alpha of the result (0..1, any one shape) of two alphas: blend functions cover as `over` does, `plus` is held
    at 1 (Porter, Duff, SIGGRAPH 1984).
    """
    if mode == "plus":
        return minimum(under + over, ONE)
    for_over, for_under = FACTORS[mode if mode in FACTORS else "over"](over, under)
    return over * for_over + under * for_under
