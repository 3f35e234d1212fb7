"""Light, shadow and occlusion from what a picture knows of its space: positions and normals of what is seen.

References: W. Beane, *wrapped diffuse*, GPU Gems (NVIDIA) 2004, ch. 16; L. Bavoil, M. Sainz, R. Dimitrov, *Image-space
horizon-based ambient occlusion*, SIGGRAPH 2008 talks; J. Jimenez et al., *Practical Realtime Strategies for Accurate
Indirect Occlusion*, 2016 (cosine-weighted horizons).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

import numba
import numpy as np
from numpy.typing import NDArray

from nexal.kernels.threads import spread
from nexal.picture import Plane

ROWS = 16
STEPS = 32
"""Samples along a ray to the light."""
SLICES, HORIZON_STEPS = 2, 6
MOST_PIXELS = 256.0
"""How far in the picture what occludes is looked for."""
Mask = NDArray[np.bool_]
Triple = NDArray[np.float64]


@numba.njit(cache=True, nogil=True)
def _lit(
    x: Plane, y: Plane, z: Plane, nx: Plane, ny: Plane, nz: Plane, there: Mask, point: bool, light: Triple,
    size: float, reach: float, wrap: float, top: int, bottom: int, out: Plane,
) -> None:  # fmt: skip
    for row in range(top, bottom):
        for column in range(out.shape[1]):
            if not there[row, column]:
                out[row, column] = 0
                continue
            ax, ay, az, fall = light[0], light[1], light[2], 1.0
            if point:
                ax, ay, az = ax - x[row, column], ay - y[row, column], az - z[row, column]
                square = ax * ax + ay * ay + az * az
                length = math.sqrt(max(square, 1e-12))
                ax, ay, az = ax / length, ay / length, az / length
                fall = size * size / (square + size * size)
                if reach > 0:
                    window = max(0.0, 1 - (square / (reach * reach)) ** 2)
                    fall *= window * window
            facing = (nx[row, column] * ax + ny[row, column] * ay + nz[row, column] * az + wrap) / (1 + wrap)
            out[row, column] = max(0.0, facing) * fall


def lit(
    places: Sequence[Plane], normals: Sequence[Plane], there: Mask, *, point: bool, light: Sequence[float],
    size: float, reach: float, wrap: float,
) -> Plane:  # fmt: skip
    """Irradiance (H x W, 1 = facing the light at it) of a point at `light` or of a sun towards it (of length 1).

    max(0, (n.l + wrap) / (1 + wrap)); a point times s^2 / (d^2 + s^2) (1 - (d / reach)^4)^2, without an end where reach
    is 0. Places and normals x, y, z are H x W; 0 where nothing is `there`.
    """
    out = np.empty_like(places[0])
    own = np.asarray(light, float)
    _in_bands(lambda top, end: _lit(*places, *normals, there, point, own, size, reach, wrap, top, end, out), out)
    return out


def _in_bands(work: Callable[[int, int], None], out: Plane) -> None:
    rows = out.shape[0]
    spread(lambda top: work(top, min(top + ROWS, rows)), range(0, rows, ROWS))


@numba.njit(cache=True, nogil=True)
def _shadowed(
    x: Plane, y: Plane, z: Plane, nx: Plane, ny: Plane, nz: Plane, there: Mask, away: Plane, camera: Triple,
    point: bool, light: Triple, length: float, thickness: float, left: float, above: float, scale: float,
    top: int, bottom: int, out: Plane,
) -> None:  # fmt: skip
    height, width = out.shape
    for row in range(top, bottom):
        for column in range(width):
            out[row, column] = 1
            if not there[row, column]:
                continue
            px, py, pz = x[row, column], y[row, column], z[row, column]
            ax, ay, az, far = light[0], light[1], light[2], length
            if point:
                ax, ay, az = ax - px, ay - py, az - pz
                whole = max(math.sqrt(ax * ax + ay * ay + az * az), 1e-9)
                ax, ay, az, far = ax / whole, ay / whole, az / whole, min(length, whole)
            # Off the surface by a part of a pixel, so that it does not shade itself.
            off = 0.002 * away[row, column]
            px, py, pz = px + nx[row, column] * off, py + ny[row, column] * off, pz + nz[row, column] * off
            start = ((column & 3) * 4 + (row & 3)) * 7 % 16 / 16.0
            for step in range(STEPS):
                t = far * ((step + start) / STEPS) ** 1.5
                qx, qy, qz = px + ax * t, py + ay * t, pz + az * t
                w = camera[2, 0] * qx + camera[2, 1] * qy + camera[2, 2] * qz + camera[2, 3]
                if w <= 0:
                    break
                u = (camera[0, 0] * qx + camera[0, 1] * qy + camera[0, 2] * qz + camera[0, 3]) / w
                v = (camera[1, 0] * qx + camera[1, 1] * qy + camera[1, 2] * qz + camera[1, 3]) / w
                i, j = math.floor(u * scale - left), math.floor(v * scale - above)
                if i < 0 or j < 0 or i >= width or j >= height:
                    break
                behind = w - away[j, i]
                if there[j, i] and behind > 0.5 * off and behind < thickness:
                    out[row, column] = 0
                    break


def shadowed(
    places: Sequence[Plane], normals: Sequence[Plane], there: Mask, away: Plane, camera: Triple, *, point: bool,
    light: Sequence[float], length: float, thickness: float, corner: tuple[int, int], scale: float,
) -> Plane:  # fmt: skip
    """1 in the light, 0 in the shadow of what is seen (H x W): each place is followed towards the light for `length` in
    32 steps, and shaded where what is seen there stands before the ray by less than `thickness`, in units of the world.

    `away` is the distance along the view; `corner` and `scale` are those of the region's first pixel.
    """
    out = np.empty_like(away)
    own = np.asarray(light, float)
    left, above = float(corner[0]), float(corner[1])
    _in_bands(
        lambda top, end: _shadowed(
            *places, *normals, there, away, camera, point, own, length, thickness, left, above, scale, top, end, out
        ),
        out,
    )
    return out


@numba.njit(cache=True, nogil=True)
def _open(
    x: Plane, y: Plane, z: Plane, nx: Plane, ny: Plane, nz: Plane, there: Mask, away: Plane, eye: Triple,
    right: Triple, up: Triple, focal: float, radius: float, top: int, bottom: int, out: Plane,
) -> None:  # fmt: skip
    height, width = out.shape
    for row in range(top, bottom):
        for column in range(width):
            out[row, column] = 1
            if not there[row, column]:
                continue
            most = min(radius * focal / max(away[row, column], 1e-9), MOST_PIXELS)
            if most < 1.5:
                continue
            px, py, pz = x[row, column], y[row, column], z[row, column]
            vx, vy, vz = eye[0] - px, eye[1] - py, eye[2] - pz
            length = math.sqrt(vx * vx + vy * vy + vz * vz)
            vx, vy, vz = vx / length, vy / length, vz / length
            turn = ((column & 3) * 4 + (row & 3)) * 7 % 16 / 16.0
            start = ((column & 3) * 5 + (row & 3) * 11) % 16 / 16.0
            total = 0.0
            for cut in range(SLICES):
                angle = math.pi * (cut + turn) / SLICES
                ca, sa = math.cos(angle), math.sin(angle)
                dx, dy, dz = right[0] * ca + up[0] * sa, right[1] * ca + up[1] * sa, right[2] * ca + up[2] * sa
                along = dx * vx + dy * vy + dz * vz
                dx, dy, dz = dx - along * vx, dy - along * vy, dz - along * vz
                length = max(math.sqrt(dx * dx + dy * dy + dz * dz), 1e-12)
                dx, dy, dz = dx / length, dy / length, dz / length
                nd = nx[row, column] * dx + ny[row, column] * dy + nz[row, column] * dz
                nv = nx[row, column] * vx + ny[row, column] * vy + nz[row, column] * vz
                share = math.sqrt(nd * nd + nv * nv)
                if share < 1e-6:
                    continue
                tilt = math.atan2(nd, nv)
                seen = 0.0
                for side in range(2):
                    sign = 1.0 if side == 0 else -1.0
                    low = math.cos(min(max(tilt + sign * math.pi / 2, -math.pi), math.pi))
                    best = low
                    for step in range(HORIZON_STEPS):
                        part = (step + 0.25 + 0.75 * start) / HORIZON_STEPS
                        reach = max(1.0, most * part * part)
                        i = column + math.floor(ca * sign * reach + 0.5)
                        j = row - math.floor(sa * sign * reach + 0.5)
                        if i < 0 or j < 0 or i >= width or j >= height or not there[j, i]:
                            continue
                        qx, qy, qz = x[j, i] - px, y[j, i] - py, z[j, i] - pz
                        square = qx * qx + qy * qy + qz * qz
                        if square == 0 or square > radius * radius:
                            continue
                        rise = (qx * vx + qy * vy + qz * vz) / math.sqrt(square)
                        best = max(best, low + (rise - low) * (1 - square / (radius * radius)))
                    horizon = math.acos(min(max(best, -1.0), 1.0)) * sign
                    horizon = tilt + min(max(horizon - tilt, -math.pi / 2), math.pi / 2)
                    seen += 0.25 * (-math.cos(2 * horizon - tilt) + math.cos(tilt) + 2 * horizon * math.sin(tilt))
                total += share * seen
            out[row, column] = min(1.0, max(0.0, total / SLICES))


def openness(
    places: Sequence[Plane], normals: Sequence[Plane], there: Mask, away: Plane, eye: Triple, right: Triple, up: Triple,
    focal: float, radius: float,
) -> Plane:  # fmt: skip
    """The cosine-weighted open share of the hemisphere over each place (H x W), by the horizons of what is seen around.

    Nothing farther than `radius` blocks. `focal` in pixels of this scale; `right`, `up` are the picture's axes in the
    world. A 4 x 4 pattern of turned directions is averaged over neighbours of about the same distance.
    """
    rough = np.empty_like(away)
    _in_bands(
        lambda top, end: _open(*places, *normals, there, away, eye, right, up, focal, radius, top, end, rough), rough
    )
    out = np.empty_like(rough)
    _in_bands(lambda top, end: _evened(rough, there, away, top, end, out), out)
    return out


@numba.njit(cache=True, nogil=True)
def _evened(rough: Plane, there: Mask, away: Plane, top: int, bottom: int, out: Plane) -> None:
    height, width = out.shape
    for row in range(top, bottom):
        for column in range(width):
            total, count = 0.0, 0
            for j in range(max(0, row - 1), min(height, row + 3)):
                for i in range(max(0, column - 1), min(width, column + 3)):
                    if there[j, i] and abs(away[j, i] - away[row, column]) < 0.03 * away[row, column]:
                        total += rough[j, i]
                        count += 1
            out[row, column] = total / count if count else rough[row, column]
