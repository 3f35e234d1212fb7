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
    """The opponent axes a (green to red) and b (blue to yellow) of scene-linear Rec.709 values."""
    cones = [np.cbrt(np.float32(x) * r + np.float32(y) * g + np.float32(z) * b) for x, y, z in _TO_CONE]
    first, second = (sum(np.float32(weight) * cone for weight, cone in zip(row, cones, strict=True)) for row in _TO_AB)
    return first, second
