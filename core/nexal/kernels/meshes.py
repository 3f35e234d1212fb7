"""Small meshes to look at textures on: sphere, panel and tea tin. About a unit in radius, y up, z to the eye."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cache

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Mesh:
    """N points with normals, tangents along u, and texture coordinates (v down from the top row); M triangles."""

    points: Floats
    normals: Floats
    tangents: Floats
    uvs: Floats
    triangles: NDArray[np.int32]
    closed: bool = True
    """Whether what turns away from the eye is never seen."""


SEGMENTS = 64
"""Sides of what is round: at 640 pixels its outline is off by a third of a pixel."""


def _grid(rows: int, columns: int) -> NDArray[np.int32]:
    """Triangles between the points of a grid, point (row, column) being row * columns + column."""
    first = (np.arange(rows - 1)[:, None] * columns + np.arange(columns - 1)[None, :]).ravel()
    right, below = first + 1, first + columns
    return np.concatenate(
        [np.stack([first, below, right], axis=1), np.stack([right, below, below + 1], axis=1)]
    ).astype(np.int32)


def _turned(radius: Floats, height: Floats, normal: Floats, v: Floats, segments: int, repeats: int) -> Mesh:
    """An outline (radius, height; its normal outwards and upwards) turned about the axis, the texture `repeats` times
    round. The middle of the texture faces the eye."""
    turn = np.linspace(0, 2 * np.pi, segments + 1)
    # Half a texture away from the middle lies at -pi / repeats, so that u = 0.5 comes to the front.
    angle = turn - np.pi / repeats
    x, z = np.sin(angle)[None, :], np.cos(angle)[None, :]
    rows, columns = radius.size, angle.size
    points = np.stack([radius[:, None] * x, np.repeat(height[:, None], columns, 1), radius[:, None] * z], axis=-1)
    normals = np.stack([normal[:, :1] * x, np.repeat(normal[:, 1:], columns, 1), normal[:, :1] * z], axis=-1)
    tangents = np.repeat(np.stack([z, np.zeros_like(x), -x], axis=-1), rows, axis=0)
    u = turn * repeats / (2 * np.pi)
    uvs = np.stack([np.repeat(u[None, :], rows, 0), np.repeat(v[:, None], columns, 1)], axis=-1)
    return Mesh(
        points.reshape(-1, 3), normals.reshape(-1, 3), tangents.reshape(-1, 3), uvs.reshape(-1, 2), _grid(rows, columns)
    )


def _joined(parts: Sequence[Mesh]) -> Mesh:
    starts = np.cumsum([0, *(len(part.points) for part in parts)])
    triangles = [part.triangles + np.int32(start) for part, start in zip(parts, starts, strict=False)]
    return Mesh(
        np.concatenate([part.points for part in parts]),
        np.concatenate([part.normals for part in parts]),
        np.concatenate([part.tangents for part in parts]),
        np.concatenate([part.uvs for part in parts]),
        np.concatenate(triangles),
    )


def _sphere() -> Mesh:
    polar = np.linspace(0, np.pi, 33)
    outline = np.stack([np.sin(polar), np.cos(polar)], axis=1)
    return _turned(outline[:, 0], outline[:, 1], outline, polar / np.pi, SEGMENTS, 2)


def _panel() -> Mesh:
    side = np.array([-0.9, 0.9])
    x, y = np.meshgrid(side, side[::-1])
    points = np.stack([x, y, np.zeros_like(x)], axis=-1).reshape(-1, 3)
    ones = np.ones(4)
    zeros = np.zeros(4)
    uvs = np.stack([(points[:, 0] + 0.9) / 1.8, (0.9 - points[:, 1]) / 1.8], axis=1)
    normals, tangents = np.stack([zeros, zeros, ones], axis=1), np.stack([ones, zeros, zeros], axis=1)
    return Mesh(points, normals, tangents, uvs, _grid(2, 2), closed=False)


RIM = 0.07
"""Part of the tin's texture, from its top and from its bottom, that its rims are wrapped in."""


def _tin() -> Mesh:
    """Bottom to top: a foot, a rolled rim, the straight wall, a rolled rim, and a lid that rises a little."""
    wall, bulge, half = 0.66, 0.055, 0.86
    roll = np.linspace(-np.pi / 2, np.pi / 2, 9)
    parts = []
    for side in (-1, 1):
        middle = side * (half - bulge)
        radius, height = wall - 0.015 + bulge * np.cos(roll), middle + bulge * np.sin(roll)
        normal = np.stack([np.cos(roll), np.sin(roll)], axis=1)
        along = (np.sin(roll) + 1) / 2
        v = (1 - along * RIM) if side < 0 else (RIM - along * RIM)
        parts.append(_turned(radius[::-1], height[::-1], normal[::-1], v[::-1], SEGMENTS, 2))
    wall_height = np.array([half - 2 * bulge, -(half - 2 * bulge)])
    outwards = np.array([[1.0, 0.0], [1.0, 0.0]])
    parts.append(_turned(np.full(2, wall), wall_height, outwards, np.array([RIM, 1 - RIM]), SEGMENTS, 2))
    lid_radius = np.linspace(0, wall - 0.015, 9)
    rise = 0.07
    lid_height = half + rise * (1 - (lid_radius / lid_radius[-1]) ** 2)
    slope = 2 * rise * lid_radius / lid_radius[-1] ** 2
    lid_normal = np.stack([slope, np.ones_like(slope)], axis=1) / np.sqrt(1 + slope**2)[:, None]
    parts.append(_turned(lid_radius, lid_height, lid_normal, np.linspace(0.0, RIM / 2, 9), SEGMENTS, 2))
    foot_radius = np.array([wall - 0.015, 0.0])
    down = np.array([[0.0, -1.0], [0.0, -1.0]])
    parts.append(_turned(foot_radius, np.full(2, -half), down, np.array([1.0, 1.0]), SEGMENTS, 2))
    return _joined(parts)


OBJECTS: dict[str, Callable[[], Mesh]] = {"tin": _tin, "sphere": _sphere, "panel": _panel}


@cache
def mesh(name: str) -> Mesh:
    """The mesh of a name in OBJECTS, about a unit in radius; kept once it is made."""
    return OBJECTS[name]()
