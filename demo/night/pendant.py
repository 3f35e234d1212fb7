"""A brass lantern swinging on its rod, on black: each light apart, colour and lighting apart, edges of motion blur.

Lengths in metres, y up, the camera looks along z at the plane z = 0. Each pixel is the mean of samples spread over the
pixel and over the time that the shutter is open. Scene-linear, premultiplied by nature.
"""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numba
import numpy as np
from numpy.typing import NDArray

from demo.night.drawing import blur

Array = NDArray[np.float32]
WIDTH, HEIGHT = 960, 540
SAMPLES = 24
FOCAL, DISTANCE = 3.5, 3.4
PIVOT = 0.98
SWING, SPEED = 0.16, 0.10
"""Radians: the middle of the swing, and how far it goes while the shutter is open."""
LIGHTS = ("key", "fill", "rim", "lantern")
PASSES = (*LIGHTS, "reflection", "glow")
NOTHING, BRASS, IRON, ENAMEL, FLAME = range(5)
ALBEDO = np.array([(0.0, 0.0, 0.0), (0.66, 0.42, 0.15), (0.14, 0.14, 0.15), (0.07, 0.3, 0.28), (0.0, 0.0, 0.0)])
FLAME_AT = -1.02


@dataclass(frozen=True)
class Pendant:
    """`passes` add up to the full picture (H x W x 3); `albedo` x `lighting` is the sum of the four lights.

    `depth` and `ids` are those of the middle of the shutter, one sample a pixel, and know nothing of the halo.
    """

    passes: dict[str, Array]
    albedo: Array
    lighting: Array
    alpha: Array
    depth: Array
    normal: Array
    ids: NDArray[np.uint32]

    @property
    def full(self) -> Array:
        return np.sum(list(self.passes.values()), axis=0, dtype=np.float32)


@numba.njit(cache=True, nogil=True, fastmath=True)
def _rod(x, y, z, low, high, r):  # type: ignore[no-untyped-def]
    away = max(low - y, 0.0) + max(y - high, 0.0)
    return math.sqrt(x * x + z * z + away * away) - r


@numba.njit(cache=True, nogil=True, fastmath=True)
def _plate(x, y, z, at, r, h):  # type: ignore[no-untyped-def]
    a, b = math.sqrt(x * x + z * z) - r, abs(y - at) - h
    return min(max(a, b), 0.0) + math.sqrt(max(a, 0.0) ** 2 + max(b, 0.0) ** 2) - 0.006


@numba.njit(cache=True, nogil=True, fastmath=True)
def lantern_distance(x, y, z):  # type: ignore[no-untyped-def]
    """Signed distance and material, in the lantern's own space: the pivot at 0, the rod along -y."""
    best, kind = _rod(x, y, z, -0.62, 0.5, 0.011), IRON
    ring = math.sqrt((math.sqrt(x * x + (y + 0.67) ** 2) - 0.05) ** 2 + z * z) - 0.012
    if ring < best:
        best, kind = ring, BRASS
    # The hood: a cone of enamel with a brass rim.
    out = math.sqrt(x * x + z * z)
    slope = (out - 0.05 - (-0.74 - y) * 1.5) * 0.55
    hood = max(slope, max(y + 0.73, -0.85 - y))
    if hood < best:
        best, kind = hood, ENAMEL
    for at, r in ((-0.86, 0.215), (-1.2, 0.17), (-1.235, 0.12)):
        plate = _plate(x, y, z, at, r, 0.012)
        if plate < best:
            best, kind = plate, BRASS
    # Six bars round the flame, leaning inwards.
    angle = math.atan2(z, x)
    turn = round(angle / (math.pi / 3)) * (math.pi / 3)
    lean = 0.16 - (-0.86 - y) * 0.08
    bx, bz = x - lean * math.cos(turn), z - lean * math.sin(turn)
    bar = _rod(bx, y, bz, -1.2, -0.86, 0.009)
    if bar < best:
        best, kind = bar, BRASS
    wick = _rod(x, y, z, -1.2, -1.1, 0.02)
    if wick < best:
        best, kind = wick, IRON
    flame = math.sqrt(x * x + ((y - FLAME_AT) * 0.5) ** 2 + z * z) - 0.045
    if flame < best:
        best, kind = flame, FLAME
    return best, kind


@numba.njit(cache=True, nogil=True, fastmath=True)
def _march(ox, oy, oz, dx, dy, dz, limit):  # type: ignore[no-untyped-def]
    t = 0.01
    for _ in range(90):
        d, kind = lantern_distance(ox + dx * t, oy + dy * t, oz + dz * t)
        if d < 0.0007:
            return t, kind
        t += d * 0.9
        if t > limit:
            break
    return limit, NOTHING


@numba.njit(cache=True, nogil=True, fastmath=True)
def _panes(dx, dy, dz, out):  # type: ignore[no-untyped-def]
    """What the brass mirrors: the dark house, two bright panes, the warm floor."""
    up = 0.5 + 0.5 * dy
    left = max(0.0, -0.62 * dx + 0.5 * dy - 0.6 * dz) ** 26
    right = max(0.0, 0.85 * dx + 0.25 * dy + 0.46 * dz) ** 18
    out[0] = 0.03 + 0.02 * up + 1.8 * left + 0.5 * right
    out[1] = 0.03 + 0.05 * up + 2.0 * left + 0.9 * right
    out[2] = 0.025 + 0.09 * up + 2.3 * left + 1.6 * right


@numba.njit(cache=True, nogil=True, fastmath=True)
def _shade(x, y, z, dx, dy, dz, kind, lights, normal):  # type: ignore[no-untyped-def]
    """Irradiance of each light (lights[0:4]), reflection (lights[4]) and emission (lights[5]) at a point."""
    if kind == FLAME:
        core = max(0.0, -dz)
        lights[5, 0] += 9.0 + 4.0 * core
        lights[5, 1] += 5.2 + 3.0 * core
        lights[5, 2] += 1.7 + 1.5 * core
        normal[0], normal[1], normal[2] = 0.0, 0.0, -1.0
        return
    e = 0.0008
    d = lantern_distance(x, y, z)[0]
    nx, ny, nz = (
        lantern_distance(x + e, y, z)[0] - d,
        lantern_distance(x, y + e, z)[0] - d,
        lantern_distance(x, y, z + e)[0] - d,
    )
    n = max(1e-9, math.sqrt(nx * nx + ny * ny + nz * nz))
    nx, ny, nz = nx / n, ny / n, nz / n
    normal[0], normal[1], normal[2] = nx, ny, nz
    sx, sy, sz = x + nx * 0.006, y + ny * 0.006, z + nz * 0.006
    for light in range(2):
        # Key from the upper left in front, rim from behind on the right.
        lx, ly, lz = (-0.55, 0.6, -0.58) if light == 0 else (0.78, 0.3, 0.55)
        facing = nx * lx + ny * ly + nz * lz
        if facing > 0 and _march(sx, sy, sz, lx, ly, lz, 1.2)[1] == NOTHING:
            if light == 0:
                lights[0, 0] += facing * 0.62
                lights[0, 1] += facing * 0.68
                lights[0, 2] += facing * 0.80
            else:
                lights[2, 0] += facing * 0.55
                lights[2, 1] += facing * 0.95
                lights[2, 2] += facing * 1.5
    up = 0.35 + 0.65 * (0.5 + 0.5 * ny)
    lights[1, 0] += up * 0.07
    lights[1, 1] += up * 0.09
    lights[1, 2] += up * 0.12
    fx, fy, fz = -x, FLAME_AT - y, -z
    far = max(1e-4, math.sqrt(fx * fx + fy * fy + fz * fz))
    facing = (nx * fx + ny * fy + nz * fz) / far
    if facing > 0:
        hit, what = _march(sx, sy, sz, fx / far, fy / far, fz / far, far)
        if what == NOTHING or what == FLAME:
            warm = facing * 0.07 / (0.01 + far * far)
            lights[3, 0] += warm * 1.5
            lights[3, 1] += warm * 0.85
            lights[3, 2] += warm * 0.3
    if kind != IRON:
        dot = dx * nx + dy * ny + dz * nz
        mirror = (0.55 if kind == BRASS else 0.05) + 0.4 * (1 + dot) ** 5
        part = np.zeros(3)
        _panes(dx - 2 * dot * nx, dy - 2 * dot * ny, dz - 2 * dot * nz, part)
        for c in range(3):
            tone = ALBEDO[BRASS, c] / 0.66 if kind == BRASS else 1.0
            lights[4, c] += mirror * part[c] * tone


@numba.njit(cache=True, nogil=True, fastmath=True)
def _hit(column, row, width, height, angle):  # type: ignore[no-untyped-def]
    """A camera ray in the lantern's own space at an angle of its swing: origin, direction, distance, material."""
    dx, dy = (column - width / 2) / height, (height / 2 - row) / height
    n = math.sqrt(dx * dx + dy * dy + FOCAL * FOCAL)
    dx, dy, dz = dx / n, dy / n, FOCAL / n
    c, s = math.cos(angle), math.sin(angle)
    ox, oy = s * -PIVOT, c * -PIVOT
    lx, ly = c * dx + s * dy, -s * dx + c * dy
    # Where the ray passes the plane of the lantern, it has to be near its axis.
    t = DISTANCE / dz
    x, y = ox + lx * t, oy + ly * t
    wide = 0.34 if -1.45 < y < -0.5 else 0.05
    if abs(x) > wide or y < -1.45:
        return ox, oy, lx, ly, dz, 0.0, NOTHING
    start = (DISTANCE - 0.45) / dz
    reach, kind = _march(ox + lx * start, oy + ly * start, -0.45, lx, ly, dz, 0.9 / dz)
    return ox, oy, lx, ly, dz, start + reach, kind


@numba.njit(cache=True, nogil=True, fastmath=True)
def _rows(first, last, passes, albedo, alpha, depth, normal, ids):  # type: ignore[no-untyped-def]
    height, width = alpha.shape
    lights, facing = np.zeros((6, 3)), np.zeros(3)
    share = 1.0 / SAMPLES
    for row in range(first, last):
        for column in range(width):
            for sample in range(SAMPLES):
                jx, jy = (sample * 0.7548776662 + 0.5) % 1, (sample * 0.5698402910 + 0.5) % 1
                # Each pixel begins elsewhere in the shutter's time, so that the blur has no steps.
                start = (column * 0.3819660113 + row * 0.6180339887) % 1
                angle = SWING + SPEED * ((sample + start) * share - 0.5)
                ox, oy, dx, dy, dz, t, kind = _hit(column + jx, row + jy, width, height, angle)
                if kind == NOTHING:
                    continue
                lights[:] = 0
                _shade(ox + dx * t, oy + dy * t, dz * t - DISTANCE, dx, dy, dz, kind, lights, facing)
                alpha[row, column] += share
                for c in range(3):
                    albedo[row, column, c] += share * ALBEDO[kind, c]
                    for light in range(6):
                        tone = ALBEDO[kind, c] if light < 4 else 1.0
                        passes[light, row, column, c] += share * lights[light, c] * tone
            ox, oy, dx, dy, dz, t, kind = _hit(column + 0.5, row + 0.5, width, height, SWING)
            if kind == NOTHING:
                depth[row, column] = 100.0
                continue
            lights[:] = 0
            _shade(ox + dx * t, oy + dy * t, dz * t - DISTANCE, dx, dy, dz, kind, lights, facing)
            depth[row, column], ids[row, column] = dz * t, kind
            c, s = math.cos(SWING), math.sin(SWING)
            normal[row, column, 0] = c * facing[0] - s * facing[1]
            normal[row, column, 1] = s * facing[0] + c * facing[1]
            normal[row, column, 2] = facing[2]


def make_pendant(width: int = WIDTH, height: int = HEIGHT) -> Pendant:
    """Render in bands on all processors; the halo of the lens is added to the glow, which alpha does not know."""
    passes = np.zeros((len(PASSES), height, width, 3), np.float32)
    albedo, normal = np.zeros((height, width, 3), np.float32), np.zeros((height, width, 3), np.float32)
    alpha, depth = np.zeros((height, width), np.float32), np.zeros((height, width), np.float32)
    ids = np.zeros((height, width), np.uint32)
    band = 20
    with ThreadPoolExecutor() as pool:
        jobs = [
            pool.submit(_rows, top, min(top + band, height), passes, albedo, alpha, depth, normal, ids)
            for top in range(0, height, band)
        ]
        for job in jobs:
            job.result()
    glow = passes[PASSES.index("glow")]
    flame = glow.copy()
    for sigma, part in ((9.0, 0.06), (34.0, 0.10)):
        for c in range(3):
            glow[..., c] += blur(np.ascontiguousarray(flame[..., c]), sigma * height / 540) * np.float32(part)
    diffuse = passes[: len(LIGHTS)].sum(axis=0)
    lighting = np.divide(diffuse, albedo, out=np.zeros_like(diffuse), where=albedo > 0)
    return Pendant(dict(zip(PASSES, passes, strict=True)), albedo, lighting, alpha, depth, normal, ids)
