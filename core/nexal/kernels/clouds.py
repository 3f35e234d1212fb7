"""Gradient noise over a hashed lattice. Reference: K. Perlin, *Improving Noise*, SIGGRAPH 2002 (its fade curve)."""

from __future__ import annotations

import math

import numba
import numpy as np

from nexal.picture import Plane


@numba.njit(cache=True, nogil=True)
def _hash(x: int, y: int, seed: int) -> int:
    h = (x * 0x27D4EB2D + y * 0x165667B1 + seed * 0x9E3779B1) & 0xFFFFFFFF
    h = ((h ^ (h >> 15)) * 0x85EBCA6B) & 0xFFFFFFFF
    h = ((h ^ (h >> 13)) * 0xC2B2AE35) & 0xFFFFFFFF
    return h ^ (h >> 16)


@numba.njit(cache=True, nogil=True)
def _corner(ix: int, iy: int, seed: int, dx: float, dy: float) -> float:
    angle = _hash(ix, iy, seed) * (2.0 * math.pi / 4294967296.0)
    return math.cos(angle) * dx + math.sin(angle) * dy


@numba.njit(cache=True, nogil=True)
def _fade(t: float) -> float:
    return t * t * t * (t * (t * 6.0 - 15.0) + 10.0)


@numba.njit(cache=True, nogil=True)
def _clouds(result: Plane, left: float, top: float, step: float, scale: float, octaves: int, seed: int) -> None:
    weights = 0.0
    for octave in range(octaves):
        weights += 0.5**octave
    for row in range(result.shape[0]):
        for column in range(result.shape[1]):
            total = 0.0
            for octave in range(octaves):
                size = scale / 2.0**octave
                x, y = (left + column * step) / size, (top + row * step) / size
                ix, iy = math.floor(x), math.floor(y)
                fx, fy = x - ix, y - iy
                u, v = _fade(fx), _fade(fy)
                own = seed + octave * 1013
                a = _corner(ix, iy, own, fx, fy)
                b = _corner(ix + 1, iy, own, fx - 1.0, fy)
                c = _corner(ix, iy + 1, own, fx, fy - 1.0)
                d = _corner(ix + 1, iy + 1, own, fx - 1.0, fy - 1.0)
                value = a + (b - a) * u
                value += (c + (d - c) * u - value) * v
                total += value * 0.5**octave
            result[row, column] = total * math.sqrt(2.0) / weights


def clouds(
    shape: tuple[int, int], start: tuple[float, float], step: float, scale: float, octaves: int, seed: int
) -> Plane:
    """Noise in -1..1 (mean 0) at positions `start + step * (column, row)`; features are about `scale` long.

    Each octave has half the size and half the strength of the one before.
    """
    result = np.empty(shape, np.float32)
    _clouds(result, *start, step, scale, octaves, seed)
    return result
