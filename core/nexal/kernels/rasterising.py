"""A mesh seen through a pinhole: which point of it each pixel shows."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache

import numba
import numpy as np
from numpy.typing import NDArray

from nexal.kernels.meshes import Mesh, mesh

Floats = NDArray[np.float32]

DISTANCE = 4.2
"""From the eye to the middle of the object."""
FIELD = math.radians(30)
FINER = 2
"""Samples that a pixel's side is looked at with for smooth outlines, where there is time for it."""
SMOOTH_FROM = 480
"""The smallest size with smooth outlines; anything smaller is for while something is being dragged."""


@dataclass(frozen=True, eq=False)
class Surface:
    """The N pixels of a square picture of `size` that show an object, and the point of it that each shows.

    `places` are their numbers, counted along the rows; `coverage` how much of each is covered. `positions`, `normals`
    and `tangents` are N x 3 in the eye's space (x right, y up, z to the eye; the object's middle at the origin), `uvs`
    N x 2 with v down.
    """

    size: int
    places: NDArray[np.int64]
    coverage: Floats
    positions: Floats
    normals: Floats
    tangents: Floats
    uvs: Floats


def _rotation(yaw: float, pitch: float) -> NDArray[np.float64]:
    cy, sy, cp, sp = math.cos(yaw), math.sin(yaw), math.cos(pitch), math.sin(pitch)
    about_y = np.array([[cy, 0, sy], [0, 1, 0], [-sy, 0, cy]])
    about_x = np.array([[1, 0, 0], [0, cp, -sp], [0, sp, cp]])
    return about_x @ about_y


@numba.njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _nearest_triangles(
    screen: NDArray[np.float64],
    triangles: NDArray[np.int32],
    closed: bool,
    nearness: NDArray[np.float32],
    seen: NDArray[np.int32],
) -> None:
    """For each sample the triangle that is nearest to the eye. `screen` is N x 3: x, y in samples, 1 / depth."""
    height, width = seen.shape
    for index in range(triangles.shape[0]):
        ax, ay, aw = screen[triangles[index, 0]]
        bx, by, bw = screen[triangles[index, 1]]
        cx, cy, cw = screen[triangles[index, 2]]
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if area == 0.0 or (closed and area > 0.0):
            continue
        left = max(0, math.ceil(min(ax, bx, cx) - 0.5))
        right = min(width - 1, math.floor(max(ax, bx, cx) - 0.5))
        top = max(0, math.ceil(min(ay, by, cy) - 0.5))
        bottom = min(height - 1, math.floor(max(ay, by, cy) - 0.5))
        for row in range(top, bottom + 1):
            y = row + 0.5
            for column in range(left, right + 1):
                x = column + 0.5
                u = ((bx - x) * (cy - y) - (by - y) * (cx - x)) / area
                v = ((cx - x) * (ay - y) - (cy - y) * (ax - x)) / area
                w = 1.0 - u - v
                if u < 0.0 or v < 0.0 or w < 0.0:
                    continue
                near = u * aw + v * bw + w * cw
                if near > nearness[row, column]:
                    nearness[row, column] = near
                    seen[row, column] = index


@numba.njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _covered(seen: NDArray[np.int32], finer: int, counts: NDArray[np.int8], first: NDArray[np.int32]) -> int:
    """How many samples of each pixel are covered, and the number of the first; returns how many pixels are."""
    found = 0
    size = counts.shape[0]
    for row in range(size):
        for column in range(size):
            count = 0
            for y in range(row * finer, (row + 1) * finer):
                for x in range(column * finer, (column + 1) * finer):
                    if seen[y, x] >= 0:
                        if count == 0:
                            first[row, column] = (y - row * finer) * finer + x - column * finer
                        count += 1
            counts[row, column] = count
            found += count > 0
    return found


@numba.njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _interpolate(
    screen: NDArray[np.float64],
    triangles: NDArray[np.int32],
    corners: NDArray[np.float64],
    seen: NDArray[np.int32],
    finer: int,
    counts: NDArray[np.int8],
    first: NDArray[np.int32],
    places: NDArray[np.int64],
    coverage: Floats,
    result: Floats,
) -> None:
    """What each covered pixel shows, perspective kept. `corners` and `result` hold position, normal, tangent and uv
    in rows of 11."""
    size = counts.shape[0]
    place = 0
    for row in range(size):
        for column in range(size):
            if counts[row, column] == 0:
                continue
            sub = first[row, column]
            y, x = row * finer + sub // finer, column * finer + sub % finer
            index = seen[y, x]
            x, y = x + 0.5, y + 0.5
            a, b, c = triangles[index, 0], triangles[index, 1], triangles[index, 2]
            ax, ay, bx, by = screen[a, 0], screen[a, 1], screen[b, 0], screen[b, 1]
            cx, cy = screen[c, 0], screen[c, 1]
            area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
            u = ((bx - x) * (cy - y) - (by - y) * (cx - x)) / area
            v = ((cx - x) * (ay - y) - (cy - y) * (ax - x)) / area
            w = (1.0 - u - v) * screen[c, 2]
            u, v = u * screen[a, 2], v * screen[b, 2]
            total = u + v + w
            u, v, w = u / total, v / total, w / total
            for part in range(11):
                result[place, part] = u * corners[a, part] + v * corners[b, part] + w * corners[c, part]
            for start in (3, 6):
                length = 0.0
                for part in range(start, start + 3):
                    length += result[place, part] * result[place, part]
                for part in range(start, start + 3):
                    result[place, part] /= math.sqrt(length)
            places[place] = row * size + column
            coverage[place] = counts[row, column] / (finer * finer)
            place += 1


def rasterise(shape: Mesh, yaw: float, pitch: float, size: int) -> Surface:
    """What each pixel of a picture of `size` x `size` shows of a mesh in perspective, row 0 at the top.

    The mesh is turned by `yaw` about the upright axis, then by `pitch` (radians).
    """
    finer = FINER if size >= SMOOTH_FROM else 1
    turn = _rotation(yaw, pitch)
    points, normals, tangents = (array @ turn.T for array in (shape.points, shape.normals, shape.tangents))
    if not shape.closed and normals[0, 2] < 0:
        # The back of a panel is seen as its front is.
        normals = -normals
    samples = size * finer
    depth = DISTANCE - points[:, 2]
    focal = samples / 2 / math.tan(FIELD / 2)
    screen = np.stack(
        [samples / 2 + focal * points[:, 0] / depth, samples / 2 - focal * points[:, 1] / depth, 1 / depth], axis=1
    )
    nearness = np.zeros((samples, samples), np.float32)
    seen = np.full((samples, samples), -1, np.int32)
    _nearest_triangles(screen, shape.triangles, shape.closed, nearness, seen)
    counts, first = np.zeros((size, size), np.int8), np.zeros((size, size), np.int32)
    found = _covered(seen, finer, counts, first)
    corners = np.concatenate([points, normals, tangents, shape.uvs], axis=1)
    places, coverage = np.empty(found, np.int64), np.empty(found, np.float32)
    result = np.empty((found, 11), np.float32)
    _interpolate(screen, shape.triangles, corners, seen, finer, counts, first, places, coverage, result)
    parts = (np.ascontiguousarray(part) for part in np.split(result, (3, 6, 9), axis=1))
    return Surface(size, places, coverage, *parts)


@lru_cache(maxsize=6)
def surface(name: str, yaw: float, pitch: float, size: int) -> Surface:
    """The surface of a named object; the last few are kept (about 12 MB each at 640), for changes of the textures."""
    return rasterise(mesh(name), yaw, pitch, size)
