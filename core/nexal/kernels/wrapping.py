"""Textures round a surface, and what is seen of it as a picture."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

import numba
import numpy as np
from numpy.typing import NDArray

from nexal.kernels.rasterising import Surface
from nexal.kernels.threads import spread
from nexal.picture import Plane


@numba.njit(cache=True, nogil=True)
def _sample(plane: Plane, uvs: NDArray[np.float32], result: NDArray[np.float32]) -> None:
    height, width = plane.shape
    for point in range(uvs.shape[0]):
        u = uvs[point, 0]
        x, y = (u - math.floor(u)) * width - 0.5, uvs[point, 1] * height - 0.5
        i, j = math.floor(x), math.floor(y)
        fx, fy = np.float32(x - i), np.float32(y - j)
        # Round the object a texture goes on where it began; at its upper and lower end it stops.
        left, right = i if i >= 0 else width - 1, i + 1 if i + 1 < width else 0
        top, bottom = min(max(j, 0), height - 1), min(max(j + 1, 0), height - 1)
        upper = plane[top, left] + (plane[top, right] - plane[top, left]) * fx
        lower = plane[bottom, left] + (plane[bottom, right] - plane[bottom, left]) * fx
        result[point] = upper + (lower - upper) * fy


def sampled(planes: Sequence[Plane], surface: Surface) -> list[NDArray[np.float32]]:
    """Planes of textures (each H x W, row 0 at v = 0) at each of the N points of a surface: N values a plane, in order.

    Bilinear; along u the texture goes on where it began, along v it stops at its first and last row.
    """

    def one(plane: Plane) -> NDArray[np.float32]:
        result = np.empty(surface.places.size, np.float32)
        _sample(np.ascontiguousarray(plane), surface.uvs, result)
        return result

    return spread(one, planes)


def bent(surface: Surface, map_planes: Sequence[Plane]) -> NDArray[np.float32]:
    """The surface's normals bent by a normal map in tangent space: N x 3 of unit length.

    `map_planes`: three planes H x W that hold x, y and z as 0.5 + n / 2, y up.
    """
    x, y, z = (2 * plane - 1 for plane in sampled(map_planes, surface))
    n, t = surface.normals, surface.tangents
    b = np.cross(n, t)
    mixed = t * x[..., None] + b * y[..., None] + n * z[..., None]
    length = np.sqrt((mixed * mixed).sum(axis=-1, keepdims=True))
    return np.where(length > 1e-6, mixed / np.maximum(length, 1e-6), n).astype(np.float32)


CURVE_ENTRIES = 4096
CURVE_END = 9.0
"""Light beyond this is white."""


@numba.njit(cache=True, nogil=True)
def _through_curve(
    light: NDArray[np.float32],
    coverage: NDArray[np.float32],
    backdrop: float,
    curve: NDArray[np.float32],
    end: float,
    places: NDArray[np.int64],
    result: NDArray[np.float32],
) -> None:
    steps = curve.size - 1
    for channel in range(3):
        for point in range(places.size):
            value = light[channel, point] * coverage[point] + backdrop * (1 - coverage[point])
            # Entries lie evenly over the root of the light, as the curve is steep at the dark end.
            at = math.sqrt(min(max(value, 0.0), end) / end) * steps
            index = min(int(at), steps - 1)
            result[channel, places[point]] = curve[index] + (curve[index + 1] - curve[index]) * (at - index)


def finished(
    light: NDArray[np.float32], surface: Surface, backdrop: float, curve: Callable[[Plane], Plane]
) -> NDArray[np.float32]:
    """Display values, 3 x size x size, of light (3 x N) over a grey backdrop, through a curve of display values."""
    ends = np.linspace(0, 1, CURVE_ENTRIES, dtype=np.float32) ** 2 * np.float32(CURVE_END)
    result = np.empty((3, surface.size * surface.size), np.float32)
    table = curve(ends)
    result[:] = np.interp(backdrop, ends, table)
    _through_curve(light, surface.coverage, backdrop, table, CURVE_END, surface.places, result)
    return result.reshape(3, surface.size, surface.size)
