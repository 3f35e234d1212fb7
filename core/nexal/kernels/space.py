"""Fog and clouds by position."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numba
import numpy as np
from numpy.typing import NDArray

from nexal.kernels.threads import spread
from nexal.picture import Plane

ROWS = 32
MOST_THICKNESS = 60.0
"""Optical thickness that nothing is seen through."""


@numba.njit(cache=True, nogil=True)
def _low_fog(
    x: Plane,
    y: Plane,
    z: Plane,
    eye: NDArray[np.float64],
    factor: float,
    falloff: float,
    top: int,
    bottom: int,
    out: Plane,
) -> None:
    for row in range(top, bottom):
        for column in range(x.shape[1]):
            dx, dy, dz = x[row, column] - eye[0], y[row, column] - eye[1], z[row, column] - eye[2]
            rise = min(max(dy / falloff, -MOST_THICKNESS), MOST_THICKNESS)
            mean = 1 - rise / 2 if abs(rise) < 1e-3 else -math.expm1(-rise) / rise
            thick = factor * math.sqrt(dx * dx + dy * dy + dz * dz) * mean
            out[row, column] = -math.expm1(-min(thick, MOST_THICKNESS))


def low_fog(places: Sequence[Plane], eye: NDArray[np.float64], density: float, height: float, falloff: float) -> Plane:
    """What fog that lies low hides between the eye and places (x, y, z: H x W): 1 - e^-tau, see the operation `fog`."""
    result = np.empty_like(places[0])
    ground = min(max(-(float(eye[1]) - height) / falloff, -MOST_THICKNESS), MOST_THICKNESS)
    factor = density * math.exp(ground)
    rows = result.shape[0]
    spread(
        lambda top: _low_fog(*places, eye, factor, falloff, top, min(top + ROWS, rows), result), range(0, rows, ROWS)
    )
    return result


@numba.njit(cache=True, nogil=True)
def _mixed(x: int, y: int, z: int, seed: int) -> int:
    h = (x * 0x27D4EB2D + y * 0x165667B1 + z * 0x1B56C4E9 + seed * 0x9E3779B1) & 0xFFFFFFFF
    h = ((h ^ (h >> 15)) * 0x85EBCA6B) & 0xFFFFFFFF
    h = ((h ^ (h >> 13)) * 0xC2B2AE35) & 0xFFFFFFFF
    return h >> 28


@numba.njit(cache=True, nogil=True)
def _slope(h: int, x: float, y: float, z: float) -> float:
    """One of the twelve directions to the edges of a cube."""
    u = x if h < 8 else y
    v = y if h < 4 else (x if h == 12 or h == 14 else z)
    return (u if h & 1 == 0 else -u) + (v if h & 2 == 0 else -v)


@numba.njit(cache=True, nogil=True)
def _fade(t: float) -> float:
    return t * t * t * (t * (t * 6.0 - 15.0) + 10.0)


@numba.njit(cache=True, nogil=True)
def _footprint(x: Plane, y: Plane, z: Plane, there: NDArray[np.bool_], row: int, column: int) -> float:
    """How far the nearest of the four pixels around lies in the world; 0 where there is none."""
    best = 0.0
    for j, i in ((row - 1, column), (row + 1, column), (row, column - 1), (row, column + 1)):
        if there[j, i]:
            dx, dy, dz = x[j, i] - x[row, column], y[j, i] - y[row, column], z[j, i] - z[row, column]
            step = math.sqrt(dx * dx + dy * dy + dz * dz)
            best = step if best == 0 else min(best, step)
    return best


@numba.njit(cache=True, nogil=True)
def _clouds(
    x: Plane, y: Plane, z: Plane, there: NDArray[np.bool_], size: float, octaves: int, seed: int,
    drift: NDArray[np.float64], top: int, bottom: int, out: Plane,
) -> None:  # fmt: skip
    weights = 0.0
    for octave in range(octaves):
        weights += 0.5**octave
    for row in range(top, bottom):
        for column in range(out.shape[1]):
            total = 0.0
            j0, i0 = row + 1, column + 1
            if there[j0, i0]:
                pixel = max(_footprint(x, y, z, there, j0, i0), 1e-9)
                for octave in range(octaves):
                    own = size / 2.0**octave
                    # Gone where a feature is two pixels long, whole from three on.
                    share = min(1.0, max(0.0, own / pixel - 2.0))
                    if share == 0:
                        break
                    a, b, c = (
                        (x[j0, i0] - drift[0]) / own,
                        (y[j0, i0] - drift[1]) / own,
                        (z[j0, i0] - drift[2]) / own,
                    )
                    i, j, k = math.floor(a), math.floor(b), math.floor(c)
                    a, b, c = a - i, b - j, c - k
                    u, v, w = _fade(a), _fade(b), _fade(c)
                    value = 0.0
                    for corner in range(8):
                        p, q, r = corner & 1, (corner >> 1) & 1, corner >> 2
                        weight = (u if p else 1 - u) * (v if q else 1 - v) * (w if r else 1 - w)
                        mixed = _mixed(i + p, j + q, k + r, seed + octave * 1013)
                        value += weight * _slope(mixed, a - p, b - q, c - r)
                    total += share * value * 0.5**octave
            out[row, column] = total / weights


def clouds_in_space(
    places: Sequence[Plane], there: NDArray[np.bool_], size: float, octaves: int, seed: int, drift: Sequence[float]
) -> Plane:
    """Noise about -1..1 (mean 0) at places of the world, 0 where nothing is; it has moved by `drift`. H x W.

    Places (x, y, z) and `there` are (H + 2) x (W + 2): what lies around tells how large a pixel is in the world, and
    octaves finer than that fade out. Gradient noise over the cells of a cubic lattice; each octave has half the size
    and strength of the one before.
    """
    rows, columns = there.shape[0] - 2, there.shape[1] - 2
    result = np.empty((rows, columns), np.float32)
    moved = np.asarray(drift, float)
    spread(
        lambda top: _clouds(*places, there, size, octaves, seed, moved, top, min(top + ROWS, rows), result),
        range(0, rows, ROWS),
    )
    return result
