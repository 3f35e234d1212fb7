"""The lantern swinging in the potting house: 36 frames of a render with all its passes, seen by a moving camera.

Lengths in metres, y up, right-handed; the camera looks along its own z. Colours are means over samples of the pixel;
depth, position, normals are those of the pixel's centre, as renderers leave them. The panes of the window are open:
nothing is there. Scene-linear, premultiplied by nature.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray

from demo.night.naming import hashed_names, hashed_value
from demo.night.pendant import lantern_distance

Array = NDArray[np.float32]
Matrix = NDArray[np.float64]
WIDTH, HEIGHT = 640, 360
FRAMES = 36
VIEW = 58.0
"""Degrees that the picture is wide."""
LIGHTS = ("moon", "sky", "lantern", "glow")
NAMES = ("floor", "wall", "beam", "post_left", "post_right", "bench", "pot_large", "pot_small", "pot_far", "lantern")
"""What stands in the house; the place in this list is the number of a thing less 1."""
RANKS = 4
NOTHING, FLOOR, WALL, BEAM, POST_LEFT, POST_RIGHT, BENCH, POT_LARGE, POT_SMALL, POT_FAR, LANTERN = range(11)
ALBEDO = np.array(
    [
        (0.0, 0.0, 0.0),
        (0.20, 0.19, 0.18),
        (0.30, 0.33, 0.30),
        (0.16, 0.10, 0.06),
        (0.10, 0.13, 0.12),
        (0.10, 0.13, 0.12),
        (0.24, 0.15, 0.08),
        (0.42, 0.17, 0.09),
        (0.46, 0.22, 0.12),
        (0.34, 0.14, 0.09),
        (0.55, 0.36, 0.14),
    ]
)
PIVOT = (0.15, 2.75, 1.3)
"""Where the lantern's rod hangs from the beam."""
HANGS, REACH = -0.85, 0.62
"""The middle of the lantern below its pivot, and the radius of a ball about all of it."""
FLAME = -1.02
"""The flame below the pivot."""
MOON = (-0.48, 0.62, -0.62)
"""Towards the moon."""


def swing_at(frame: int) -> float:
    """Radians that the lantern hangs out of the plumb, to the right of the picture above 0."""
    return 0.3 * math.sin(2 * math.pi * (frame - 1) / FRAMES)


def flame_at(frame: int) -> Array:
    """Where the flame is in the world."""
    angle = swing_at(frame)
    x, y, z = PIVOT
    return np.array((x - FLAME * math.sin(angle), y + FLAME * math.cos(angle), z), np.float32)


def camera_at(frame: int) -> Matrix:
    """Camera to world, 4 x 4: columns are the camera's right, up and forward, and its eye."""
    t = (frame - 1) / (FRAMES - 1)
    eye = np.array((-0.75 + 1.1 * t, 1.55 - 0.12 * t, -2.9 + 0.35 * t))
    forward = np.array((0.1, 1.2, 1.6)) - eye
    forward /= np.linalg.norm(forward)
    right = np.cross((0.0, 1.0, 0.0), forward)
    right /= np.linalg.norm(right)
    made = np.eye(4)
    made[:3, 0], made[:3, 1], made[:3, 2], made[:3, 3] = right, np.cross(forward, right), forward, eye
    return made


def header_at(frame: int, width: int = WIDTH, height: int = HEIGHT) -> dict[str, Array]:
    """`worldToCamera` and `worldToNDC` as OpenEXR's standard attributes have them: row vectors, z forward."""
    to_camera = np.linalg.inv(camera_at(frame)).T
    wide = math.tan(math.radians(VIEW) / 2)
    high = wide * height / width
    project = np.array([[0.5 / wide, 0, 0, 0], [0, -0.5 / high, 0, 0], [0.5, 0.5, 1, 1], [0, 0, -0.05, 0]])
    return {"worldToCamera": to_camera.astype(np.float32), "worldToNDC": (to_camera @ project).astype(np.float32)}


@dataclass(frozen=True)
class Swing:
    """One frame. `passes` add up to the picture; `position`, `normal` are 0 and `depth` is 1e10 where nothing is.

    `ids` and `cover` (H x W x ranks): things by falling coverage, 0 for nothing.
    """

    passes: dict[str, Array]
    alpha: Array
    depth: Array
    position: Array
    normal: Array
    ids: NDArray[np.uint8]
    cover: Array

    @property
    def full(self) -> Array:
        return np.sum(list(self.passes.values()), axis=0, dtype=np.float32)


@numba.njit(cache=True, nogil=True, fastmath=True)
def _box(x, y, z, cx, cy, cz, hx, hy, hz):  # type: ignore[no-untyped-def]
    a, b, c = abs(x - cx) - hx, abs(y - cy) - hy, abs(z - cz) - hz
    out = math.sqrt(max(a, 0.0) ** 2 + max(b, 0.0) ** 2 + max(c, 0.0) ** 2)
    return out + min(max(a, max(b, c)), 0.0)


@numba.njit(cache=True, nogil=True, fastmath=True)
def _pot(x, y, z, cx, cz, r, h):  # type: ignore[no-untyped-def]
    """A pot that stands on the floor, wider at its top, with a rim."""
    out = math.sqrt((x - cx) ** 2 + (z - cz) ** 2)
    wide = r * (0.72 + 0.28 * min(max(y / h, 0.0), 1.0))
    body = max((out - wide) * 0.93, abs(y - h / 2) - h / 2)
    rim = max(out - r * 1.08, abs(y - h) - 0.035)
    hollow = 0.9 * r - out
    return min(body, max(rim, hollow if y > h else -1.0))


@numba.njit(cache=True, nogil=True, fastmath=True)
def _scene(x, y, z, swing):  # type: ignore[no-untyped-def]
    """Signed distance and thing at a place of the world."""
    best, kind = y, FLOOR
    # The back wall with a window of six panes.
    wall = 3.6 - z
    if wall < 0.4:
        for row in range(2):
            for column in range(3):
                pane = _box(x, y, z, -1.0 + 0.62 * column, 1.25 + 0.72 * row, 3.6, 0.27, 0.31, 0.5)
                wall = max(wall, -pane)
        wall = max(wall, z - 3.7)
    if wall < best:
        best, kind = wall, WALL
    beam = _box(x, y, z, 0.0, 2.85, PIVOT[2], 4.0, 0.1, 0.12)
    if beam < best:
        best, kind = beam, BEAM
    left = math.sqrt((x + 0.95) ** 2 + (z - 0.55) ** 2) - 0.07
    if left < best:
        best, kind = left, POST_LEFT
    right = math.sqrt((x - 1.25) ** 2 + (z - 2.2) ** 2) - 0.07
    if right < best:
        best, kind = right, POST_RIGHT
    bench = min(
        _box(x, y, z, -0.5, 0.78, 2.75, 1.15, 0.03, 0.34),
        min(_box(x, y, z, -1.5, 0.38, 2.75, 0.04, 0.4, 0.28), _box(x, y, z, 0.5, 0.38, 2.75, 0.04, 0.4, 0.28)),
    )
    if bench < best:
        best, kind = bench, BENCH
    large = _pot(x, y, z, 0.72, 0.75, 0.27, 0.5)
    if large < best:
        best, kind = large, POT_LARGE
    small = _pot(x, y, z, -0.15, 1.15, 0.17, 0.3)
    if small < best:
        best, kind = small, POT_SMALL
    far = _pot(x, y - 0.81, z, -0.95, 2.75, 0.15, 0.26)
    if far < best:
        best, kind = far, POT_FAR
    px, py, pz = x - PIVOT[0], y - PIVOT[1], z - PIVOT[2]
    c, s = math.cos(swing), math.sin(swing)
    lx, ly = c * px + s * py, -s * px + c * py
    around = math.sqrt(lx * lx + (ly - HANGS) ** 2 + pz * pz) - REACH
    hanging = around + 0.1 if around > 0.1 else lantern_distance(lx, ly, pz)[0]
    if hanging < best:
        best, kind = hanging, LANTERN
    return best, kind


@numba.njit(cache=True, nogil=True, fastmath=True)
def _march(ox, oy, oz, dx, dy, dz, swing, limit):  # type: ignore[no-untyped-def]
    t = 0.012
    for _ in range(110):
        d, kind = _scene(ox + dx * t, oy + dy * t, oz + dz * t, swing)
        if d < 0.0006 * (1 + t):
            return t, kind
        t += d * 0.92
        if t > limit or oz + dz * t > 4.2:
            break
    return limit, NOTHING


@numba.njit(cache=True, nogil=True, fastmath=True)
def _facing(x, y, z, swing, out):  # type: ignore[no-untyped-def]
    e = 0.0012
    d = _scene(x, y, z, swing)[0]
    for axis in range(3):
        out[axis] = _scene(x + (axis == 0) * e, y + (axis == 1) * e, z + (axis == 2) * e, swing)[0] - d
    n = max(1e-9, math.sqrt(out[0] ** 2 + out[1] ** 2 + out[2] ** 2))
    for axis in range(3):
        out[axis] /= n


@numba.njit(cache=True, nogil=True, fastmath=True)
def _tone(x, y, z, kind):  # type: ignore[no-untyped-def]
    """What the surface's colour is multiplied by: tiles, boards, the brick of the wall."""
    if kind == FLOOR:
        return 0.75 + 0.35 * ((math.floor(x / 0.5) + math.floor(z / 0.5)) % 2)
    if kind == WALL:
        row = math.floor(y / 0.14)
        return 0.82 + 0.25 * (math.sin(math.floor(x / 0.3 + 0.5 * (row % 2)) * 12.9 + row * 78.2) * 43758.5 % 1)
    if kind in (BEAM, BENCH):
        return 0.8 + 0.3 * math.sin(9 * x + 3 * math.sin(40 * z)) ** 2
    return 1.0


@numba.njit(cache=True, nogil=True, fastmath=True)
def _shade(x, y, z, normal, kind, swing, flame, lights):  # type: ignore[no-untyped-def]
    """Adds the light of moon, sky, lantern and the flame's own to lights (4 x 3)."""
    nx, ny, nz = normal[0], normal[1], normal[2]
    fx, fy, fz = flame[0] - x, flame[1] - y, flame[2] - z
    far = max(1e-4, math.sqrt(fx * fx + fy * fy + fz * fz))
    if kind == LANTERN and far < 0.075:
        lights[3, 0] += 8.0
        lights[3, 1] += 4.6
        lights[3, 2] += 1.5
        return
    sx, sy, sz = x + nx * 0.01, y + ny * 0.01, z + nz * 0.01
    facing = nx * MOON[0] + ny * MOON[1] + nz * MOON[2]
    if facing > 0 and _march(sx, sy, sz, MOON[0], MOON[1], MOON[2], swing, 4.5)[1] == NOTHING:
        lights[0, 0] += facing * 0.34
        lights[0, 1] += facing * 0.45
        lights[0, 2] += facing * 0.62
    up = 0.4 + 0.6 * (0.5 + 0.5 * ny)
    lights[1, 0] += up * 0.10
    lights[1, 1] += up * 0.13
    lights[1, 2] += up * 0.17
    facing = (nx * fx + ny * fy + nz * fz) / far
    if facing > 0:
        t, what = _march(sx, sy, sz, fx / far, fy / far, fz / far, swing, far - 0.08)
        if what == NOTHING or t >= far - 0.09:
            warm = facing * 1.1 / (0.05 + far * far)
            lights[2, 0] += warm * 1.5
            lights[2, 1] += warm * 0.85
            lights[2, 2] += warm * 0.3


@numba.njit(cache=True, nogil=True, fastmath=True)
def _rows(first, last, grid, camera, swing, flame, passes, alpha, depth, position, normal, ids, cover):  # type: ignore[no-untyped-def]
    height, width = alpha.shape
    wide = math.tan(math.radians(VIEW) / 2)
    facing, lights, ray = np.zeros(3), np.zeros((4, 3)), np.zeros(3)
    counts = np.zeros(11, np.int64)
    samples = grid * grid
    for row in range(first, last):
        for column in range(width):
            counts[:] = 0
            for sample in range(samples + 1):
                # The last one is the pixel's centre: what the data passes hold.
                jx = 0.5 if sample == samples else (sample % grid + 0.5) / grid
                jy = 0.5 if sample == samples else (sample // grid + 0.5) / grid
                u, v = (2 * (column + jx) / width - 1) * wide, (height - 2 * (row + jy)) / width * wide
                for axis in range(3):
                    ray[axis] = camera[axis, 0] * u + camera[axis, 1] * v + camera[axis, 2]
                n = math.sqrt(1 + u * u + v * v)
                ox, oy, oz = camera[0, 3], camera[1, 3], camera[2, 3]
                t, kind = _march(ox, oy, oz, ray[0] / n, ray[1] / n, ray[2] / n, swing, 30.0)
                x, y, z = ox + ray[0] / n * t, oy + ray[1] / n * t, oz + ray[2] / n * t
                if kind != NOTHING:
                    _facing(x, y, z, swing, facing)
                if sample == samples:
                    depth[row, column] = 1e10 if kind == NOTHING else t / n
                    if kind != NOTHING:
                        position[row, column, 0], position[row, column, 1], position[row, column, 2] = x, y, z
                        for axis in range(3):
                            normal[row, column, axis] = facing[axis]
                    continue
                counts[kind] += 1
                if kind == NOTHING:
                    continue
                lights[:] = 0
                _shade(x, y, z, facing, kind, swing, flame, lights)
                alpha[row, column] += 1.0 / samples
                tone = _tone(x, y, z, kind)
                for c in range(3):
                    for light in range(4):
                        lit = lights[light, c] * (ALBEDO[kind, c] * tone if light < 3 else 1.0)
                        passes[light, row, column, c] += lit / samples
            for rank in range(ids.shape[2]):
                best = 1
                for kind in range(2, 11):
                    if counts[kind] > counts[best]:
                        best = kind
                if counts[best] == 0:
                    break
                ids[row, column, rank], cover[row, column, rank] = best, counts[best] / samples
                counts[best] = 0


def make_swing(frame: int, width: int = WIDTH, height: int = HEIGHT, grid: int = 3) -> Swing:
    """Render one frame in bands on all processors, with grid x grid samples a pixel."""
    passes = np.zeros((len(LIGHTS), height, width, 3), np.float32)
    alpha, depth = np.zeros((height, width), np.float32), np.zeros((height, width), np.float32)
    position, normal = np.zeros((height, width, 3), np.float32), np.zeros((height, width, 3), np.float32)
    ids, cover = np.zeros((height, width, RANKS), np.uint8), np.zeros((height, width, RANKS), np.float32)
    camera, swing, flame = camera_at(frame), swing_at(frame), flame_at(frame)
    with ThreadPoolExecutor() as pool:
        jobs = [
            pool.submit(
                _rows,
                top,
                min(top + 20, height),
                grid,
                camera,
                swing,
                flame,
                passes,
                alpha,
                depth,
                position,
                normal,
                ids,
                cover,
            )
            for top in range(0, height, 20)
        ]
        for job in jobs:
            job.result()
    return Swing(dict(zip(LIGHTS, passes, strict=True)), alpha, depth, position, normal, ids, cover)


def channels_of(swing: Swing) -> dict[str, NDArray[Any]]:
    """The frame's channels by their names in the file; ids are those of the hashed names, ranked by coverage."""
    made: dict[str, NDArray[Any]] = {"A": swing.alpha.astype(np.float16)}
    for layer, light in {"": swing.full, **swing.passes}.items():
        for index, name in enumerate("RGB"):
            made[f"{layer}.{name}" if layer else name] = light[..., index].astype(np.float16)
    made["depth.Z"] = swing.depth
    for index, axis in enumerate("XYZ"):
        made[f"position.{axis}"] = swing.position[..., index]
        made[f"normal.{axis}"] = swing.normal[..., index].astype(np.float16)
    values = np.array([0.0, *(hashed_value(name) for name in NAMES)], np.float32)
    for rank in range(RANKS):
        layer, (number, share) = f"objects{rank // 2:02d}", ("RG", "BA")[rank % 2]
        made[f"{layer}.{number}"] = values[swing.ids[..., rank]]
        made[f"{layer}.{share}"] = swing.cover[..., rank].astype(np.float16)
    return made


def write_swing(
    folder: Path, write: Callable[[Path, Mapping[str, NDArray[Any]], Mapping[str, Any]], None], frames: int = FRAMES
) -> None:
    """All frames (`swing.0001.exr`...) with camera and names in their headers; what is there is left."""
    names = hashed_names("objects", NAMES)
    for number in range(1, frames + 1):
        path = folder / f"swing.{number:04d}.exr"
        if not path.is_file():
            write(path, channels_of(make_swing(number)), header_at(number) | names)
