"""OKLab from scene-linear Rec.709. Reference: B. Ottosson, *A perceptual color space for image processing*, 2020."""

from __future__ import annotations

import numpy as np

from nexal.kernels.pointmath import Value

_TO_CONE = (
    (0.4122214708, 0.5363325363, 0.0514459929),
    (0.2119034982, 0.6806995451, 0.1073969566),
    (0.0883024619, 0.2817188376, 0.6299787005),
)
_TO_AB = ((1.9779984951, -2.4285922050, 0.4505937099), (0.0259040371, 0.7827717662, -0.8086757660))


def oklab_ab(r: Value, g: Value, b: Value) -> tuple[Value, Value]:
    """The opponent axes a (green to red) and b (blue to yellow) of scene-linear Rec.709 values of any one shape.

    Reference: B. Ottosson, *A perceptual color space for image processing*, 2020.
    """
    cones = [np.cbrt(np.float32(x) * r + np.float32(y) * g + np.float32(z) * b) for x, y, z in _TO_CONE]
    first, second = (sum(np.float32(weight) * cone for weight, cone in zip(row, cones, strict=True)) for row in _TO_AB)
    return first, second


_FROM_LAB = (
    (1.0, 0.3963377774, 0.2158037573),
    (1.0, -0.1055613458, -0.0638541728),
    (1.0, -0.0894841775, -1.2914855480),
)
_FROM_CONE = (
    (4.0767416621, -3.3077115913, 0.2309699292),
    (-1.2684380046, 2.6097574011, -0.3413193965),
    (-0.0041960863, -0.7034186147, 1.7076147010),
)


def rgb_of(lightness: Value, a: Value, b: Value) -> tuple[Value, Value, Value]:
    """Scene-linear Rec.709 (red, green, blue; not held in 0..1) of OKLab values of any one shape, lightness 0..1."""
    lab = (lightness, a, b)
    cones = [sum(weight * axis for weight, axis in zip(row, lab, strict=True)) ** 3 for row in _FROM_LAB]
    red, green, blue = (sum(weight * cone for weight, cone in zip(row, cones, strict=True)) for row in _FROM_CONE)
    return red, green, blue
