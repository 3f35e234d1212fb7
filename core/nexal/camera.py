"""Cameras: where points of the world fall on a picture, and where pixels lie in the world.

A camera is a 3 x 4 matrix M: (u w, v w, w) = M (P, 1), with u, v in pixels of the display window (centres at whole
numbers and a half, v downwards) and w the distance along the view, in units of the world.
References: OpenEXR, *Standard Optional Attributes* (worldToCamera, worldToNDC); R. Hartley, A. Zisserman, *Multiple
View Geometry*, 2nd ed., 7.1 (the camera of known points).
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nexal.errors import NexalError, SettingError
from nexal.formats.decoded import untagged
from nexal.picture import Description

Matrix = NDArray[np.float64]
Points = NDArray[np.floating[Any]]
SINGULAR = 1e-6
"""Ratio of singular values below which points do not say where they were seen from: they lie on one plane."""
MOST_POINTS = 20_000
SKEW = 0.02
"""Largest part of the focal length that is taken for one of rounding, and not for a matrix that is no camera's."""


@dataclass(frozen=True)
class Camera:
    """A camera, and a picture's width and height in pixels."""

    matrix: Matrix
    width: int
    height: int

    @property
    def eye(self) -> Matrix:
        eye: Matrix = np.asarray(np.linalg.solve(self.matrix[:, :3], -self.matrix[:, 3]), np.float64)
        return eye

    @property
    def forward(self) -> Matrix:
        """The direction of the view, of length 1."""
        return self.matrix[2, :3] / np.linalg.norm(self.matrix[2, :3])

    @property
    def focal(self) -> float:
        """Pixels that something as wide as it is far away takes across."""
        row, view = self.matrix[0, :3], self.matrix[2, :3]
        return float(np.linalg.norm(row - (row @ view) * view))

    @property
    def field_of_view(self) -> float:
        """Degrees that the display window is wide."""
        return math.degrees(2 * math.atan(self.width / 2 / self.focal))

    @property
    def steps(self) -> Matrix:
        """3 x 3: times (x, y, 1) the way in the world for one unit of distance along the view."""
        steps: Matrix = np.asarray(np.linalg.inv(self.matrix[:, :3]), np.float64)
        return steps

    def seen(self, points: Points) -> tuple[Matrix, Matrix]:
        """Where points (N x 3) fall on the picture (N x 2), and their distance along the view (N)."""
        found = np.asarray(points, float) @ self.matrix[:, :3].T + self.matrix[:, 3]
        with np.errstate(all="ignore"):
            return found[:, :2] / found[:, 2:], found[:, 2]


def camera_of_header(metadata: Mapping[str, Any], width: int, height: int) -> Camera | None:
    """The camera in the standard attributes of a file (`tagged` values), None where there is none.

    They are made for row vectors: (P, 1) A. Camera space is left-handed, z forward; NDC goes from 0 at the display
    window's upper left to 1 at its lower right. Raises SettingError where they are no camera's.
    """
    given = metadata.get("worldToNDC")
    if given is None:
        return None
    where = "worldToNDC"
    try:
        ndc = _square(untagged(given)).T
        matrix = np.stack([ndc[0] * width, ndc[1] * height, ndc[3]])
        scale = float(np.linalg.norm(matrix[2, :3]))
        if metadata.get("worldToCamera") is not None:
            scale = math.copysign(scale, float(_square(untagged(metadata["worldToCamera"])).T[2, :3] @ matrix[2, :3]))
        return _checked(matrix / scale, width, height, where)
    except (ValueError, TypeError, ZeroDivisionError, np.linalg.LinAlgError):
        raise _no_camera(where) from None


def camera_of(description: Description) -> Camera | None:
    """The camera in the header that came with a picture. Raises SettingError where what stands there is none."""
    return camera_of_header(description.metadata, description.display.width, description.display.height)


def _no_camera(where: str) -> NexalError:
    return SettingError(
        "is no camera's matrix", where=where, remedy="render it with its camera, or give the field of view"
    )


def _square(value: Any) -> Matrix:
    matrix = np.asarray(value, float).reshape(4, 4)
    if not np.isfinite(matrix).all():
        raise ValueError("not finite")
    return matrix


def _checked(matrix: Matrix, width: int, height: int, where: str) -> Camera:
    if not np.isfinite(matrix).all() or abs(np.linalg.det(matrix[:, :3])) < 1e-12:
        raise _no_camera(where)
    return Camera(matrix, width, height)


def camera_of_view(camera_to_world: Sequence[Sequence[float]], fov_x: float, width: int, height: int) -> Camera:
    """The camera of a field of view (degrees across) and a matrix of column vectors: it looks along -z, y is up.

    Raises SettingError where the matrix can't be turned round.
    """
    focal = width / 2 / math.tan(math.radians(fov_x) / 2)
    try:
        to_camera = np.linalg.inv(np.asarray(camera_to_world, float).reshape(4, 4))
    except (ValueError, np.linalg.LinAlgError):
        raise _no_camera("setting 'camera_to_world'") from None
    inner = np.array([[focal, 0, -width / 2], [0, -focal, -height / 2], [0, 0, -1.0]])
    return _checked(inner @ to_camera[:3], width, height, "setting 'camera_to_world'")


@dataclass(frozen=True)
class Solved:
    """A camera found from positions: the rms distance in pixels of what agrees, and the share of points that does."""

    camera: Camera
    error: float
    share: float


def camera_of_positions(position: Points, mask: NDArray[np.bool_], origin: tuple[int, int] = (0, 0)) -> Solved | None:
    """The camera that a position pass (3 x H x W) was seen by, from its pixels in `mask` alone.

    `origin` is the place of its first pixel in the display window, whose size is taken to be that of the pass. None
    where the points lie on a plane or do not agree. Normalised direct linear transform, outliers left out in rounds.
    """
    height, width = mask.shape
    found = np.flatnonzero(mask)
    if found.size < 12:
        return None
    chosen = np.random.default_rng(0).choice(found, min(MOST_POINTS, found.size), replace=False)
    points = np.stack([plane.ravel()[chosen] for plane in position], axis=1).astype(float)
    at = np.stack([chosen % width + origin[0] + 0.5, chosen // width + origin[1] + 0.5], axis=1)
    keep = np.ones(len(points), bool)
    matrix, error = np.zeros((3, 4)), math.inf
    for _ in range(4):
        solved = _linear(points[keep], at[keep])
        if solved is None:
            return None
        matrix = solved
        seen, _ = Camera(matrix, width, height).seen(points)
        away = np.hypot(*(seen - at).T)
        error = float(np.sqrt(np.mean(away[keep] ** 2)))
        keep = away < max(3 * 1.4826 * float(np.median(away)), 1e-3)
        if keep.sum() < 12:
            return None
    if not np.isfinite(error) or error > 1:
        return None
    return Solved(Camera(matrix, width, height), error, float(keep.mean()))


def _linear(points: Matrix, at: Matrix) -> Matrix | None:
    middle, spread = points.mean(axis=0), points.std() + 1e-12
    centre, size = at.mean(axis=0), at.std() + 1e-12
    world = np.concatenate([(points - middle) / spread, np.ones((len(points), 1))], axis=1)
    seen = (at - centre) / size
    zero = np.zeros_like(world)
    rows = np.concatenate(
        [
            np.concatenate([world, zero, -seen[:, :1] * world], axis=1),
            np.concatenate([zero, world, -seen[:, 1:] * world], axis=1),
        ]
    )
    values, vectors = np.linalg.eigh(rows.T @ rows)
    # Squares of singular values: the smallest is the fit's own error, the next says whether there is but one.
    if values[1] < values[-1] * SINGULAR**2:
        return None
    inner = vectors[:, 0].reshape(3, 4)
    back = np.array([[size, 0, centre[0]], [0, size, centre[1]], [0, 0, 1]])
    there = np.concatenate([np.eye(3) / spread, -(middle / spread)[:, None]], axis=1)
    matrix = back @ inner @ np.concatenate([there, [[0, 0, 0, 1]]])
    length = np.linalg.norm(matrix[2, :3])
    if length < 1e-12:
        return None
    matrix /= length
    ahead = points @ matrix[2, :3] + matrix[2, 3]
    return -matrix if np.median(ahead) < 0 else matrix


def ball_outline(camera: Camera, centre: Sequence[float], radius: float, count: int = 96) -> Matrix | None:
    """The outline of a ball on the picture (count x 2); None where the eye is inside of it or it is behind.

    What is seen of a ball is bounded by a circle round eye + D (1 - r^2 / D^2), of radius r sqrt(1 - r^2 / D^2).
    """
    eye = camera.eye
    away = np.asarray(centre, float) - eye
    square = float(away @ away)
    if square <= radius * radius or away @ camera.forward <= radius:
        return None
    part = 1 - radius * radius / square
    forward = away / math.sqrt(square)
    across = np.cross(forward, (0.0, 1.0, 0.0) if abs(forward[1]) < 0.9 else (1.0, 0.0, 0.0))
    across /= np.linalg.norm(across)
    turn = np.linspace(0, 2 * np.pi, count, endpoint=False)[:, None]
    ring = np.cos(turn) * across + np.sin(turn) * np.cross(forward, across)
    return camera.seen(eye + away * part + radius * math.sqrt(part) * ring)[0]
