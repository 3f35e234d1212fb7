"""A thick glass cloche on a table, traced with true refraction; once for each index of refraction.

Lengths in metres, y up, the camera looks along z. The glass is a signed-distance shell; rays are followed through its
faces by Snell's law, with Schlick's Fresnel term and absorption by Beer's law. Scene-linear.
"""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numba
import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float32]
WIDTH, HEIGHT = 960, 540
OVERSCAN = 32
INDICES = {"low": 1.41, "middle": 1.50, "high": 1.62}
"""Indices of refraction of red, green and blue light in a strongly dispersive glass."""

FOCAL = 1.5
EYE = (0.0, 0.86, -3.1)
TILT = 0.075
RADIUS, HOLLOW, SHOULDER = 0.62, 0.50, 0.66
BALL = (0.1, 0.17, -0.02, 0.17)
BUD = (-0.21, 0.09, 0.08, 0.09)
LAMPS = np.array([(-1.9, 1.5, 2.6, 0.30), (-0.75, 1.05, 3.4, 0.2), (0.55, 1.3, 3.0, 0.24), (1.75, 1.75, 2.4, 0.34)])
TINTS = np.array([(3.4, 2.0, 0.75), (2.6, 1.7, 0.8), (3.0, 1.8, 0.7), (1.0, 1.9, 2.8)])
NOTHING, TABLE, GLASS, BRASS, PETAL = range(5)


@dataclass(frozen=True)
class Cloche:
    """`renders`: for each index, H x W x 3 on black, premultiplied; `alpha` H x W; `plate` what is there without it.

    `position` has an overscan of 32 pixels on each side.
    """

    renders: dict[str, Array]
    alpha: Array
    plate: Array
    position: Array


@numba.njit(cache=True, nogil=True, fastmath=True)
def _shell(x: float, y: float, z: float) -> float:
    """Signed distance to the glass: a dome over a cylinder, hollow, with a knob on top."""
    up = max(y - SHOULDER, 0.0)
    middle = math.sqrt(x * x + up * up + z * z)
    outer = max(middle - RADIUS, -y)
    outer = min(outer, math.sqrt(x * x + (y - SHOULDER - RADIUS - 0.07) ** 2 + z * z) - 0.11)
    return max(outer, HOLLOW - middle)


@numba.njit(cache=True, nogil=True, fastmath=True)
def _glass_normal(x: float, y: float, z: float) -> tuple[float, float, float]:
    e = 0.0012
    nx = _shell(x + e, y, z) - _shell(x - e, y, z)
    ny = _shell(x, y + e, z) - _shell(x, y - e, z)
    nz = _shell(x, y, z + e) - _shell(x, y, z - e)
    n = max(1e-9, math.sqrt(nx * nx + ny * ny + nz * nz))
    return nx / n, ny / n, nz / n


@numba.njit(cache=True, nogil=True, fastmath=True)
def _to_glass(ox, oy, oz, dx, dy, dz, limit):  # type: ignore[no-untyped-def]
    """Distance to the next face of the glass, from outside or from inside of it."""
    t = 0.004
    for _ in range(120):
        d = abs(_shell(ox + dx * t, oy + dy * t, oz + dz * t))
        if d < 0.0004:
            return t
        t += d * 0.9
        if t > limit:
            break
    return limit


@numba.njit(cache=True, nogil=True, fastmath=True)
def _ball(ox, oy, oz, dx, dy, dz, cx, cy, cz, r):  # type: ignore[no-untyped-def]
    px, py, pz = ox - cx, oy - cy, oz - cz
    b = px * dx + py * dy + pz * dz
    root = b * b - (px * px + py * py + pz * pz - r * r)
    if root <= 0:
        return 1e9
    t = -b - math.sqrt(root)
    return t if t > 1e-4 else 1e9


@numba.njit(cache=True, nogil=True, fastmath=True)
def _sky(dx, dy, dz, ox, oy, oz, out):  # type: ignore[no-untyped-def]
    """The dark house behind: a gradient, the bars of the panes, and lamps out of focus."""
    height = 0.5 + 0.5 * dy
    out[0], out[1], out[2] = 0.010 + 0.020 * height, 0.018 + 0.034 * height, 0.026 + 0.05 * height
    if dz > 0.05:
        far = (4.5 - oz) / dz
        x, y = ox + dx * far, oy + dy * far
        bar = min(abs(x / 0.9 - round(x / 0.9)) * 0.9, abs(y / 1.1 - round(y / 1.1)) * 1.1)
        dark = 0.35 + 0.65 * min(1.0, bar / 0.09)
        for c in range(3):
            out[c] *= dark
    for i in range(LAMPS.shape[0]):
        lx, ly, lz = LAMPS[i, 0] - ox, LAMPS[i, 1] - oy, LAMPS[i, 2] - oz
        far = math.sqrt(lx * lx + ly * ly + lz * lz)
        cosine = (lx * dx + ly * dy + lz * dz) / far
        off = math.sqrt(max(0.0, 1 - cosine * cosine)) * far if cosine > 0 else 9.0
        disc = min(1.0, max(0.0, (LAMPS[i, 3] - off) / 0.05))
        halo = 0.03 / (0.1 + off * off) if cosine > 0 else 0.0
        for c in range(3):
            out[c] += TINTS[i, c] * (0.8 * disc + halo)


@numba.njit(cache=True, nogil=True, fastmath=True)
def _lit(x, y, z, nx, ny, nz, dx, dy, dz, kind, out):  # type: ignore[no-untyped-def]
    a0, a1, a2, gloss = 0.72, 0.45, 0.15, 0.8
    if kind == PETAL:
        a0, a1, a2, gloss = 0.62, 0.08, 0.1, 0.15
    elif kind == TABLE:
        plank = math.floor(x / 0.34)
        grain = 0.5 + 0.5 * math.sin(z * 9 + 3.1 * math.sin(z * 2.3 + plank * 1.7) + plank * 4.1)
        joint = 0.35 if abs(x / 0.34 - plank - 0.5) > 0.485 else 1.0
        shade = (0.7 + 0.3 * grain) * joint
        a0, a1, a2, gloss = 0.17 * shade, 0.1 * shade, 0.055 * shade, 0.12
    out[0], out[1], out[2] = a0 * 0.05, a1 * 0.07, a2 * 0.1
    for i in range(LAMPS.shape[0]):
        # The lamps stand behind; their light on the front comes from the mirror of the panes.
        lx, ly, lz = LAMPS[i, 0] * 0.8 - x, LAMPS[i, 1] + 0.5 - y, (1.2 - LAMPS[i, 2]) - z
        far = math.sqrt(lx * lx + ly * ly + lz * lz)
        lx, ly, lz = lx / far, ly / far, lz / far
        facing = max(0.0, nx * lx + ny * ly + nz * lz)
        hx, hy, hz = lx - dx, ly - dy, lz - dz
        h = max(1e-6, math.sqrt(hx * hx + hy * hy + hz * hz))
        spec = gloss * max(0.0, (nx * hx + ny * hy + nz * hz) / h) ** 50 * 2.5
        e = facing * 0.42 / (0.3 + far * far * 0.3)
        out[0] += (a0 + spec) * e * TINTS[i, 0]
        out[1] += (a1 + spec) * e * TINTS[i, 1]
        out[2] += (a2 + spec) * e * TINTS[i, 2]


@numba.njit(cache=True, nogil=True, fastmath=True)
def _surface(ox, oy, oz, dx, dy, dz):  # type: ignore[no-untyped-def]
    """The nearest surface that is no glass: distance and what it is."""
    best, kind = 1e9, NOTHING
    if dy < -1e-6:
        t = -oy / dy
        if t > 1e-4 and abs(oz + dz * t) < 1.6 and abs(ox + dx * t) < 2.6:
            best, kind = t, TABLE
    t = _ball(ox, oy, oz, dx, dy, dz, BALL[0], BALL[1], BALL[2], BALL[3])
    if t < best:
        best, kind = t, BRASS
    t = _ball(ox, oy, oz, dx, dy, dz, BUD[0], BUD[1], BUD[2], BUD[3])
    if t < best:
        best, kind = t, PETAL
    return best, kind


@numba.njit(cache=True, nogil=True, fastmath=True)
def _opaque(ox, oy, oz, dx, dy, dz, t, kind, out):  # type: ignore[no-untyped-def]
    if kind == NOTHING:
        _sky(dx, dy, dz, ox, oy, oz, out)
        return
    x, y, z = ox + dx * t, oy + dy * t, oz + dz * t
    if kind == TABLE:
        _lit(x, y, z, 0.0, 1.0, 0.0, dx, dy, dz, kind, out)
        around = math.sqrt(x * x + z * z)
        contact = 1 - 0.5 * math.exp(-max(0.0, abs(around - 0.56) - 0.06) * 7)
        for c in range(3):
            out[c] *= contact
    elif kind == BRASS:
        _lit(x, y, z, (x - BALL[0]) / BALL[3], (y - BALL[1]) / BALL[3], (z - BALL[2]) / BALL[3], dx, dy, dz, kind, out)
    else:
        _lit(x, y, z, (x - BUD[0]) / BUD[3], (y - BUD[1]) / BUD[3], (z - BUD[2]) / BUD[3], dx, dy, dz, kind, out)


@numba.njit(cache=True, nogil=True, fastmath=True)
def _through(ox, oy, oz, dx, dy, dz, index, out, part):  # type: ignore[no-untyped-def]
    """Light that comes back along a ray that meets the glass first."""
    keep = 1.0
    inside = _shell(ox, oy, oz) < 0
    out[0], out[1], out[2] = 0.0, 0.0, 0.0
    for _ in range(10):
        solid, kind = _surface(ox, oy, oz, dx, dy, dz)
        reach = min(solid, 12.0)
        t = _to_glass(ox, oy, oz, dx, dy, dz, reach)
        if inside:
            keep *= math.exp(-0.22 * min(t, 2.0))
        if t >= reach:
            _opaque(ox, oy, oz, dx, dy, dz, solid, kind, part)
            for c in range(3):
                out[c] += keep * part[c]
            return
        ox, oy, oz = ox + dx * t, oy + dy * t, oz + dz * t
        nx, ny, nz = _glass_normal(ox, oy, oz)
        cosine = dx * nx + dy * ny + dz * nz
        if cosine > 0:
            nx, ny, nz = -nx, -ny, -nz
        cosine = abs(cosine)
        ratio = index if inside else 1 / index
        root = 1 - ratio * ratio * (1 - cosine * cosine)
        rx, ry, rz = dx + 2 * cosine * nx, dy + 2 * cosine * ny, dz + 2 * cosine * nz
        if root <= 0:
            dx, dy, dz = rx, ry, rz
            ox, oy, oz = ox + nx * 0.003, oy + ny * 0.003, oz + nz * 0.003
            continue
        base = ((index - 1) / (index + 1)) ** 2
        outer = math.sqrt(root) if inside else cosine
        mirror = base + (1 - base) * (1 - outer) ** 5
        if not inside:
            _sky(rx, ry, rz, ox, oy, oz, part)
            for c in range(3):
                out[c] += keep * mirror * part[c] * 0.7
        keep *= 1 - mirror
        bend = ratio * cosine - math.sqrt(root)
        dx, dy, dz = ratio * dx + bend * nx, ratio * dy + bend * ny, ratio * dz + bend * nz
        ox, oy, oz = ox - nx * 0.003, oy - ny * 0.003, oz - nz * 0.003
        inside = not inside


@numba.njit(cache=True, nogil=True, fastmath=True)
def _ray(column, row, width, height):  # type: ignore[no-untyped-def]
    dx, dy = (column - width / 2) / height, (height / 2 - row) / height - TILT
    n = math.sqrt(dx * dx + dy * dy + FOCAL * FOCAL)
    return dx / n, dy / n, FOCAL / n


@numba.njit(cache=True, nogil=True, fastmath=True)
def _rows(first, last, eye, indices, renders, alpha, plate, position, overscan):  # type: ignore[no-untyped-def]
    height, width = alpha.shape
    light, part = np.zeros(3), np.zeros(3)
    for row in range(first, last):
        for column in range(-overscan, width + overscan):
            dx, dy, dz = _ray(column + 0.5, row + 0.5, width, height)
            solid, kind = _surface(eye[0], eye[1], eye[2], dx, dy, dz)
            t = min(min(solid, 12.0), _to_glass(eye[0], eye[1], eye[2], dx, dy, dz, min(solid, 12.0)))
            for c in range(3):
                along = dx if c == 0 else dy if c == 1 else dz
                position[row + overscan, column + overscan, c] = eye[c] + along * t
            if row < 0 or row >= height or column < 0 or column >= width:
                continue
            for sample in range(4):
                dx, dy, dz = _ray(column + 0.25 + 0.5 * (sample % 2), row + 0.25 + 0.5 * (sample // 2), width, height)
                table = 1e9 if dy >= -1e-6 else -eye[1] / dy
                floor = table if table < 12 and abs(eye[2] + dz * table) < 1.6 else 1e9
                _opaque(eye[0], eye[1], eye[2], dx, dy, dz, floor, TABLE if floor < 1e8 else NOTHING, light)
                for c in range(3):
                    plate[row, column, c] += 0.25 * light[c]
                reach = min(floor, 12.0)
                if _to_glass(eye[0], eye[1], eye[2], dx, dy, dz, reach) >= reach:
                    continue
                alpha[row, column] += 0.25
                for i in range(indices.shape[0]):
                    _through(eye[0], eye[1], eye[2], dx, dy, dz, indices[i], light, part)
                    for c in range(3):
                        renders[i, row, column, c] += 0.25 * light[c]


def make_cloche(width: int = WIDTH, height: int = HEIGHT) -> Cloche:
    """Render in bands on all processors."""
    indices = np.array(list(INDICES.values()))
    renders = np.zeros((len(indices), height, width, 3), np.float32)
    alpha, plate = np.zeros((height, width), np.float32), np.zeros((height, width, 3), np.float32)
    position = np.zeros((height + 2 * OVERSCAN, width + 2 * OVERSCAN, 3), np.float32)
    band = 16
    with ThreadPoolExecutor() as pool:
        jobs = [
            pool.submit(
                _rows,
                top,
                min(top + band, height + OVERSCAN),
                np.array(EYE),
                indices,
                renders,
                alpha,
                plate,
                position,
                OVERSCAN,
            )
            for top in range(-OVERSCAN, height + OVERSCAN, band)
        ]
        for job in jobs:
            job.result()
    return Cloche(dict(zip(INDICES, renders, strict=True)), alpha, plate, position)
