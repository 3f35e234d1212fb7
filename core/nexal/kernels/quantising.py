"""Values as whole codes: rounded, or dithered so that a slope keeps its mean.

References: B. E. Bayer, *An Optimum Method for Two-Level Rendition of Continuous-Tone Pictures*, ICC 1973 (ordered);
R. W. Floyd, L. Steinberg, *An Adaptive Algorithm for Spatial Greyscale*, Proc. SID 17, 1976 (error diffusion).
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray

from nexal.kernels.bounds import share
from nexal.picture import Plane

SIDE = 8


def _bayer(side: int) -> NDArray[np.float32]:
    matrix = np.zeros((1, 1))
    while matrix.shape[0] < side:
        matrix = np.block([[4 * matrix, 4 * matrix + 2], [4 * matrix + 3, 4 * matrix + 1]])
    return ((matrix + 0.5) / side**2).astype(np.float32)


def _rounded(scaled: Plane) -> Plane:
    return np.floor(scaled + np.float32(0.5))


def _ordered(scaled: Plane) -> Plane:
    rows, columns = (-(-size // SIDE) for size in scaled.shape)
    thresholds = np.tile(_bayer(SIDE), (rows, columns))[: scaled.shape[0], : scaled.shape[1]]
    return np.floor(scaled + thresholds)


@numba.njit(cache=True, nogil=True)
def _diffuse(scaled: Plane, most: float, result: Plane) -> None:
    height, width = scaled.shape
    here, below = np.zeros(width + 2, np.float32), np.zeros(width + 2, np.float32)
    for y in range(height):
        below[:] = 0.0
        for x in range(width):
            wanted = scaled[y, x] + here[x + 1]
            code = min(max(np.floor(wanted + np.float32(0.5)), np.float32(0.0)), np.float32(most))
            # A value that is a whole code takes no error on: what is 0 or full stays so beside a slope.
            if scaled[y, x] == np.floor(scaled[y, x]):
                code = scaled[y, x]
                wanted = code
            error = wanted - code
            result[y, x] = code
            here[x + 2] += error * np.float32(7 / 16)
            below[x] += error * np.float32(3 / 16)
            below[x + 1] += error * np.float32(5 / 16)
            below[x + 2] += error * np.float32(1 / 16)
        here, below = below, here


def _diffused(scaled: Plane, most: int) -> Plane:
    result = np.empty_like(scaled)
    _diffuse(scaled, most, result)
    return result


DITHERS: dict[str, Callable[[Plane, int], Plane]] = {
    "none": lambda scaled, most: _rounded(scaled),
    "ordered": lambda scaled, most: _ordered(scaled),
    "diffusion": _diffused,
}


def codes(plane: Plane, most: int, dither: str = "none") -> NDArray[Any]:
    """Whole codes 0 to `most` (255 or 65535) of values in 0..1: floor(clamp(v, 0, 1) * most + 0.5), or dithered.

    Values that are whole codes already come out as they are, whatever the dither. NaN becomes 0.
    """
    scaled = share(plane) * np.float32(most)
    return DITHERS[dither](np.ascontiguousarray(scaled), most).astype(np.uint8 if most == 255 else np.uint16)
