"""The glasshouse at night: a small signed-distance renderer with one pass for each light and the data passes.

Lengths in metres, y up, the camera looks along z. Light passes are scene-linear and add up to the full picture.
"""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numba
import numpy as np
from numpy.typing import NDArray

from demo.night.drawing import blur, noise
from demo.night.fern import clump

Array = NDArray[np.float32]
WIDTH, HEIGHT = 1024, 576
FOCAL = 1.05
EYE = (0.15, 1.55, -5.2)
LANTERNS = np.array([(-1.25, 2.15, 0.6), (1.35, 2.55, 3.1), (-1.1, 2.75, 6.4), (0.9, 2.6, 10.0)])
FERNS = np.array(
    # x, y of the root, z, size, which clump
    [
        (-2.15, 0.55, 0.9, 1.9, 0),
        (2.35, 0.55, 2.4, 2.1, 1),
        (-2.3, 0.55, 3.6, 2.3, 1),
        (2.3, 0.55, 5.2, 2.2, 0),
        (-2.2, 0.55, 7.0, 2.3, 0),
        (2.25, 0.55, 8.6, 2.4, 1),
        (-2.9, 0.05, -1.6, 1.6, 1),
        (2.2, 0.35, -0.9, 1.3, 0),
    ]
)
GROUPS = ("moon", "lantern", "fill", "glow")
NOTHING, FLOOR, RIB, LAMP, POT, TABLE, BRASS, CLOCHE, FERN, WALL = range(10)
ALBEDO = np.array(
    [
        (0, 0, 0),
        (0.2, 0.19, 0.18),
        (0.075, 0.1, 0.095),
        (0.9, 0.7, 0.4),
        (0.34, 0.15, 0.08),
        (0.2, 0.12, 0.065),
        (0.72, 0.47, 0.17),
        (0.5, 0.6, 0.6),
        (0.075, 0.16, 0.05),
        (0.1, 0.11, 0.11),
    ]
)


@dataclass(frozen=True)
class House:
    """Passes of H x W (x 3); `ids` are whole numbers."""

    groups: dict[str, Array]
    depth: Array
    position: Array
    normal: Array
    ids: NDArray[np.uint32]

    @property
    def full(self) -> Array:
        return np.sum(list(self.groups.values()), axis=0, dtype=np.float32)


@numba.njit(cache=True, nogil=True, fastmath=True)
def _box(x: float, y: float, z: float, a: float, b: float, c: float) -> float:
    dx, dy, dz = abs(x) - a, abs(y) - b, abs(z) - c
    outside = math.sqrt(max(dx, 0.0) ** 2 + max(dy, 0.0) ** 2 + max(dz, 0.0) ** 2)
    return outside + min(max(dx, max(dy, dz)), 0.0)


@numba.njit(cache=True, nogil=True, fastmath=True)
def _capsule(x, y, z, ax, ay, az, bx, by, bz, r):  # type: ignore[no-untyped-def]
    px, py, pz, dx, dy, dz = x - ax, y - ay, z - az, bx - ax, by - ay, bz - az
    t = min(1.0, max(0.0, (px * dx + py * dy + pz * dz) / (dx * dx + dy * dy + dz * dz)))
    return math.sqrt((px - dx * t) ** 2 + (py - dy * t) ** 2 + (pz - dz * t) ** 2) - r


@numba.njit(cache=True, nogil=True, fastmath=True)
def _cylinder(x: float, y: float, z: float, r: float, h: float) -> float:
    a, b = math.sqrt(x * x + z * z) - r, abs(y) - h
    return min(max(a, b), 0.0) + math.sqrt(max(a, 0.0) ** 2 + max(b, 0.0) ** 2)


@numba.njit(cache=True, nogil=True, fastmath=True)
def _scene(x: float, y: float, z: float) -> tuple[float, int]:
    """Distance to the nearest surface and what it is."""
    best, kind = y, FLOOR
    # Arched ribs every 1.9 m, and bars along the house.
    top = y - 2.3
    arch = abs(abs(x) - 3.1) if top < 0 else abs(math.sqrt(x * x + top * top) - 3.1)
    if arch < 1.2:
        dz = (z + 1.0) - 1.9 * round((z + 1.0) / 1.9)
        d = math.sqrt(arch * arch + dz * dz) - 0.055
        if d < best:
            best, kind = d, RIB
        angle = math.atan2(max(top, 0.0), abs(x))
        step = math.pi / 10
        near = round(angle / step) * step
        bx, by = 3.1 * math.cos(near), 3.1 * math.sin(near)
        d = math.sqrt((abs(x) - bx) ** 2 + (top - by) ** 2) - 0.03
        if top < 0.1:
            d = min(d, math.sqrt((abs(x) - 3.1) ** 2 + (y - 1.1) ** 2) - 0.035)
        if d < best:
            best, kind = d, RIB
        wall = _box(abs(x) - 3.1, y - 0.3, z - 6, 0.09, 0.3, 12)
        if wall < best:
            best, kind = wall, WALL
    else:
        best = min(best, arch - 0.2)
    # Far end: a glazed wall inside the last arch.
    if abs(x) < 3.1 and (top < 0 or x * x + top * top < 9.6):
        end = abs(14.5 - z)
        if end < 1.5:
            gx, gy = x - 0.77 * round(x / 0.77), y - 0.95 * round(y / 0.95)
            d = math.sqrt(end * end + min(gx * gx, gy * gy)) - 0.035
            if d < best:
                best, kind = d, RIB
        else:
            best = min(best, end)
    for i in range(LANTERNS.shape[0]):
        lx, ly, lz = x - LANTERNS[i, 0], y - LANTERNS[i, 1], z - LANTERNS[i, 2]
        d = math.sqrt(lx * lx + (ly * 0.82) ** 2 + lz * lz) - 0.17
        if d < 1.0:
            cap = min(_cylinder(lx, ly - 0.23, lz, 0.1, 0.03), _cylinder(lx, ly + 0.22, lz, 0.09, 0.025))
            rod = math.sqrt(lx * lx + lz * lz) - 0.009
            cap = min(cap, max(rod, -ly))
            if cap < best:
                best, kind = cap, BRASS
        if d < best:
            best, kind = d, LAMP
    for i in range(FERNS.shape[0]):
        px, py, pz = x - FERNS[i, 0], y - FERNS[i, 1], z - FERNS[i, 2]
        d = _cylinder(px, py + 0.25, pz, 0.27 + 0.12 * (py + 0.25), 0.27) * 0.9
        d = min(d, _cylinder(px, py, pz, 0.34, 0.045))
        if d < best:
            best, kind = d, POT
    tx, tz = x - 1.25, z + 2.35
    d = _box(tx, y - 0.72, tz, 0.62, 0.03, 0.42) - 0.01
    legs = _box(abs(tx) - 0.55, y - 0.36, abs(tz) - 0.35, 0.03, 0.36, 0.03)
    d = min(d, legs)
    if d < best:
        best, kind = d, TABLE
    # Under the glass cloche: a small brass sphere on a stand.
    d = min(math.sqrt(tx * tx + (y - 0.93) ** 2 + tz * tz) - 0.1, _cylinder(tx, y - 0.78, tz, 0.13, 0.03))
    wx, wz = x + 1.3, z + 2.1
    can = _cylinder(wx, y - 0.25, wz, 0.24, 0.24) - 0.015
    can = min(can, _capsule(wx, y, wz, 0.2, 0.14, -0.05, 0.62, 0.56, -0.2, 0.035))
    can = min(can, _capsule(wx, y, wz, 0.6, 0.54, -0.19, 0.7, 0.6, -0.22, 0.075))
    ring = math.sqrt((math.sqrt((wx + 0.1) ** 2 + (y - 0.47) ** 2) - 0.2) ** 2 + wz * wz) - 0.018
    d = min(d, min(can, ring))
    if d < best:
        best, kind = d, BRASS
    return best, kind


@numba.njit(cache=True, nogil=True, fastmath=True)
def _march(ox, oy, oz, dx, dy, dz, limit, steps):  # type: ignore[no-untyped-def]
    t = 0.02
    for _ in range(steps):
        d, kind = _scene(ox + dx * t, oy + dy * t, oz + dz * t)
        if d < 0.0006 * (1 + t):
            return t, kind
        t += d * 0.93
        if t > limit:
            break
    return limit, NOTHING


@numba.njit(cache=True, nogil=True, fastmath=True)
def _fern_hit(ox, oy, oz, dx, dy, dz, limit, masks):  # type: ignore[no-untyped-def]
    """Nearest fern card that the ray meets where its mask covers: distance, coverage, height on the card."""
    best, cover, height = limit, 0.0, 0.0
    size = masks.shape[1]
    for i in range(FERNS.shape[0]):
        for card in range(3):
            plane = FERNS[i, 2] + (card - 1) * 0.22
            if abs(dz) < 1e-6:
                continue
            t = (plane - oz) / dz
            if t < 0.02 or t >= best:
                continue
            s = FERNS[i, 3] * (1 - 0.12 * card)
            u = (ox + dx * t - FERNS[i, 0]) / s + 0.5
            if card == 1:
                u = 1 - u
            v = 1 - (oy + dy * t - FERNS[i, 1] + 0.06) / s
            if 0 < u < 1 and 0 < v < 1:
                c = masks[(int(FERNS[i, 4]) + card) % 2, int(v * size), int(u * size)]
                if c > 0.5:
                    best, cover, height = t, c, 1 - v
    return best, cover, height


@numba.njit(cache=True, nogil=True, fastmath=True)
def _shadow(ox, oy, oz, dx, dy, dz, limit, masks):  # type: ignore[no-untyped-def]
    t, kind = _march(ox, oy, oz, dx, dy, dz, limit, 32)
    if kind != NOTHING and kind != LAMP and t < limit - 0.25:
        return 0.0
    hit, cover, _ = _fern_hit(ox, oy, oz, dx, dy, dz, limit, masks)
    return 0.25 if cover > 0 and hit > 0.05 else 1.0


@numba.njit(cache=True, nogil=True, fastmath=True)
def _normal(x, y, z):  # type: ignore[no-untyped-def]
    e = 0.0015
    d = _scene(x, y, z)[0]
    nx, ny, nz = _scene(x + e, y, z)[0] - d, _scene(x, y + e, z)[0] - d, _scene(x, y, z + e)[0] - d
    n = max(1e-9, math.sqrt(nx * nx + ny * ny + nz * nz))
    return nx / n, ny / n, nz / n


@numba.njit(cache=True, nogil=True, fastmath=True)
def _sky(dx, dy, dz, out):  # type: ignore[no-untyped-def]
    """Night sky through the panes: a gradient, and the moon with its halo."""
    up = max(0.0, dy)
    moon = max(0.0, dx * 0.31 + dy * 0.5 + dz * 0.81)
    halo = 0.9 * moon**60 + 0.12 * moon**8
    disc = 5.0 if moon > 0.9994 else 0.0
    out[0] = 0.012 + 0.018 * (1 - up) + halo * 0.30 + disc
    out[1] = 0.024 + 0.030 * (1 - up) + halo * 0.38 + disc
    out[2] = 0.046 + 0.040 * (1 - up) + halo * 0.48 + disc


@numba.njit(cache=True, nogil=True, fastmath=True)
def _light(x, y, z, nx, ny, nz, vx, vy, vz, kind, height, masks, moon, lamp, fill):  # type: ignore[no-untyped-def]
    """Diffuse and highlight of each light at a surface point; results are added into the three colours."""
    a0, a1, a2 = ALBEDO[kind, 0], ALBEDO[kind, 1], ALBEDO[kind, 2]
    gloss, shine = 0.05, 24.0
    if kind == FLOOR:
        tile = (math.floor(x / 0.62) + math.floor(z / 0.62)) % 2
        fx, fz = x / 0.62 - math.floor(x / 0.62), z / 0.62 - math.floor(z / 0.62)
        joint = 0.45 if min(min(fx, 1 - fx), min(fz, 1 - fz)) < 0.018 else 1.0
        shade = (0.72 + 0.42 * tile) * joint
        a0, a1, a2 = a0 * shade, a1 * shade, a2 * shade
        gloss, shine = 0.3, 60.0
    elif kind == BRASS:
        gloss, shine = 0.9, 48.0
    elif kind == POT:
        gloss = 0.08
    elif kind == FERN:
        bright = 0.45 + 0.9 * height
        a0, a1, a2 = a0 * bright, a1 * bright, a2 * bright
    leaf = kind == FERN
    mx, my, mz = 0.31, 0.5, 0.81
    facing = nx * mx + ny * my + nz * mz
    facing = 0.35 + 0.65 * abs(facing) if leaf else facing
    if facing > 0:
        visible = _shadow(x + nx * 0.01, y + ny * 0.01, z + nz * 0.01, mx, my, mz, 12.0, masks)
        hx, hy, hz = mx - vx, my - vy, mz - vz
        h = max(1e-6, math.sqrt(hx * hx + hy * hy + hz * hz))
        spec = gloss * max(0.0, (nx * hx + ny * hy + nz * hz) / h) ** shine * 2.2
        e = facing * visible
        moon[0] += (a0 + spec) * e * 0.42
        moon[1] += (a1 + spec) * e * 0.56
        moon[2] += (a2 + spec) * e * 0.80
    for i in range(LANTERNS.shape[0]):
        lx, ly, lz = LANTERNS[i, 0] - x, LANTERNS[i, 1] - y, LANTERNS[i, 2] - z
        far = math.sqrt(lx * lx + ly * ly + lz * lz)
        lx, ly, lz = lx / far, ly / far, lz / far
        facing = nx * lx + ny * ly + nz * lz
        facing = 0.4 + 0.6 * abs(facing) if leaf else facing
        if facing <= 0 or far > 5.5:
            continue
        visible = _shadow(x + nx * 0.01, y + ny * 0.01, z + nz * 0.01, lx, ly, lz, far, masks)
        hx, hy, hz = lx - vx, ly - vy, lz - vz
        h = max(1e-6, math.sqrt(hx * hx + hy * hy + hz * hz))
        spec = gloss * max(0.0, (nx * hx + ny * hy + nz * hz) / h) ** shine * 2.0
        e = facing * visible * 2.6 / (0.12 + far * far) * (1 - (far / 5.5) ** 4)
        lamp[0] += (a0 + spec) * e
        lamp[1] += (a1 + spec) * e * 0.62
        lamp[2] += (a2 + spec) * e * 0.27
    open_ = 0.0
    for i in range(1, 5):
        open_ += min(1.0, _scene(x + nx * 0.12 * i, y + ny * 0.12 * i, z + nz * 0.12 * i)[0] / (0.12 * i))
    open_ = 0.25 + 0.75 * max(0.0, open_ / 4)
    up = (0.5 + 0.5 * ny) * open_
    fill[0] += a0 * up * 0.085
    fill[1] += a1 * up * 0.115
    fill[2] += a2 * up * 0.15


@numba.njit(cache=True, nogil=True, fastmath=True)
def _cloche(ox, oy, oz, dx, dy, dz, limit):  # type: ignore[no-untyped-def]
    """How edge-on the ray meets the cloche (a glass dome on the table): 0 where it misses, towards 1 at the rim."""
    px, py, pz = ox - 1.25, (oy - 0.98) / 1.25, oz + 2.35
    qy = dy / 1.25
    a, b = dx * dx + qy * qy + dz * dz, px * dx + py * qy + pz * dz
    c = px * px + py * py + pz * pz - 0.26 * 0.26
    root = b * b - a * c
    if root <= 0:
        return 0.0, 0.0, 0.0
    t = (-b - math.sqrt(root)) / a
    y = oy + dy * t
    if t < 0 or t > limit or y < 0.75:
        return 0.0, 0.0, 0.0
    nx, ny = (px + dx * t) / 0.26, (py + qy * t) / 0.26
    nz = (pz + dz * t) / 0.26
    facing = abs(nx * dx + ny * dy + nz * dz)
    edge = (1 - min(1.0, facing)) ** 3
    spot = max(0.0, nx * -0.62 + ny * 0.55 + nz * -0.56) ** 90 + 0.5 * max(0.0, nx * 0.5 + ny * 0.6 + nz * -0.62) ** 140
    return 0.06 + edge, spot, 1.0


@numba.njit(cache=True, nogil=True, fastmath=True)
def _colour(ox, oy, oz, dx, dy, dz, masks, moon, lamp, fill, glow):  # type: ignore[no-untyped-def]
    t, kind = _march(ox, oy, oz, dx, dy, dz, 30.0, 130)
    hit, cover, height = _fern_hit(ox, oy, oz, dx, dy, dz, t, masks)
    if cover > 0:
        t, kind = hit, FERN
    x, y, z = ox + dx * t, oy + dy * t, oz + dz * t
    if kind == NOTHING:
        _sky(dx, dy, dz, moon)
    elif kind == LAMP:
        edge = 0.55 + 0.45 * abs(dz)
        glow[0] += 5.2 * edge
        glow[1] += 3.3 * edge
        glow[2] += 1.35 * edge
    else:
        nx, ny, nz = (0.0, 0.35, -0.94) if kind == FERN else _normal(x, y, z)
        _light(x, y, z, nx, ny, nz, dx, dy, dz, kind, height, masks, moon, lamp, fill)
        if kind == FLOOR or kind == BRASS:
            # One bounce: wet stone and brass mirror the house.
            dot = dx * nx + dy * ny + dz * nz
            rx, ry, rz = dx - 2 * dot * nx, dy - 2 * dot * ny, dz - 2 * dot * nz
            mirror = (0.035 + 0.5 * (1 + dot) ** 5) if kind == FLOOR else 0.55
            t2, kind2 = _march(x + nx * 0.01, y + ny * 0.01, z + nz * 0.01, rx, ry, rz, 20.0, 70)
            second = np.zeros(3)
            if kind2 == NOTHING:
                _sky(rx, ry, rz, second)
                moon += second * mirror
            elif kind2 == LAMP:
                glow[0] += 5.2 * mirror
                glow[1] += 3.3 * mirror
                glow[2] += 1.35 * mirror
            else:
                m2, l2, f2 = np.zeros(3), np.zeros(3), np.zeros(3)
                x2, y2, z2 = x + rx * t2, y + ry * t2, z + rz * t2
                n0, n1, n2 = _normal(x2, y2, z2)
                _light(x2, y2, z2, n0, n1, n2, rx, ry, rz, kind2, 0.5, masks, m2, l2, f2)
                moon += m2 * mirror
                lamp += l2 * mirror
                fill += f2 * mirror
    rim, spot, met = _cloche(ox, oy, oz, dx, dy, dz, t)
    if met > 0:
        moon[2] += 0.05 * rim
        moon[1] += 0.04 * rim
        moon[0] += 0.03 * rim
        lamp[0] += 0.22 * rim + 2.2 * spot
        lamp[1] += 0.14 * rim + 1.4 * spot
        lamp[2] += 0.06 * rim + 0.6 * spot
    # Light scattered by the air on the way: the closed form of 1/r^2 along a segment.
    for i in range(LANTERNS.shape[0]):
        lx, ly, lz = LANTERNS[i, 0] - ox, LANTERNS[i, 1] - oy, LANTERNS[i, 2] - oz
        along = lx * dx + ly * dy + lz * dz
        off = math.sqrt(max(1e-4, lx * lx + ly * ly + lz * lz - along * along))
        air = (math.atan((t - along) / off) + math.atan(along / off)) / off * 0.014
        glow[0] += air
        glow[1] += air * 0.6
        glow[2] += air * 0.26
    # Mist lying on the floor.
    low = 0.0
    for i in range(6):
        s = t * (i + 0.5) / 6
        low += math.exp(-max(0.0, oy + dy * s) * 3.2) * t / 6
    mist = 1 - math.exp(-low * 0.05)
    keep = 1 - mist
    for c in range(3):
        moon[c] *= keep
        lamp[c] *= keep
        fill[c] *= keep
    fill[0] += mist * 0.030
    fill[1] += mist * 0.042
    fill[2] += mist * 0.055
    lamp[0] += mist * 0.05
    lamp[1] += mist * 0.032
    lamp[2] += mist * 0.016


@numba.njit(cache=True, nogil=True, fastmath=True)
def _rows(first, last, masks, eye, light, depth, position, normal, ids):  # type: ignore[no-untyped-def]
    moon, lamp, fill, glow = np.zeros(3), np.zeros(3), np.zeros(3), np.zeros(3)
    for row in range(first, last):
        for column in range(depth.shape[1]):
            for sample in range(3):
                # The third sample, through the pixel's centre, gives the data passes.
                jx = 0.27 + 0.46 * sample if sample < 2 else 0.5
                jy = 0.73 - 0.46 * sample if sample < 2 else 0.5
                dx = (column + jx - depth.shape[1] / 2) / depth.shape[0]
                dy = (depth.shape[0] / 2 - row - jy) / depth.shape[0] + 0.045
                n = math.sqrt(dx * dx + dy * dy + FOCAL * FOCAL)
                dx, dy, dz = dx / n, dy / n, FOCAL / n
                if sample < 2:
                    moon[:], lamp[:], fill[:], glow[:] = 0, 0, 0, 0
                    _colour(eye[0], eye[1], eye[2], dx, dy, dz, masks, moon, lamp, fill, glow)
                    for c in range(3):
                        light[0, row, column, c] += 0.5 * moon[c]
                        light[1, row, column, c] += 0.5 * lamp[c]
                        light[2, row, column, c] += 0.5 * fill[c]
                        light[3, row, column, c] += 0.5 * glow[c]
                    continue
                t, kind = _march(eye[0], eye[1], eye[2], dx, dy, dz, 30.0, 130)
                hit, cover, _ = _fern_hit(eye[0], eye[1], eye[2], dx, dy, dz, t, masks)
                if cover > 0:
                    t, kind = hit, FERN
                depth[row, column] = t * dz
                ids[row, column] = kind
                x, y, z = eye[0] + dx * t, eye[1] + dy * t, eye[2] + dz * t
                position[row, column, 0], position[row, column, 1], position[row, column, 2] = x, y, z
                if kind == FERN:
                    normal[row, column, 2] = -1
                elif kind != NOTHING:
                    nx, ny, nz = _normal(x, y, z)
                    normal[row, column, 0], normal[row, column, 1], normal[row, column, 2] = nx, ny, nz


def make_house(width: int = WIDTH, height: int = HEIGHT) -> House:
    """Render all passes, in bands on all processors."""
    masks = np.stack([clump(640, 3), clump(640, 8)])
    light = np.zeros((len(GROUPS), height, width, 3), np.float32)
    depth = np.zeros((height, width), np.float32)
    position, normal = np.zeros((height, width, 3), np.float32), np.zeros((height, width, 3), np.float32)
    ids = np.zeros((height, width), np.uint32)
    band = 24
    with ThreadPoolExecutor() as pool:
        jobs = [
            pool.submit(_rows, top, min(top + band, height), masks, np.array(EYE), light, depth, position, normal, ids)
            for top in range(0, height, band)
        ]
        for job in jobs:
            job.result()
    # Halation of the lens belongs to the glow pass, which depth does not know.
    bright = np.maximum(light[3] - 0.9, 0)
    for sigma, share in ((6.0, 0.10), (24.0, 0.05), (70.0, 0.03)):
        light[3] += np.stack(
            [blur(np.ascontiguousarray(bright[..., c]), sigma * height / 720) for c in range(3)], axis=-1
        ) * np.float32(share)
    drift = 0.9 + 0.2 * noise(width, height, 160 * height / 720, 5, 3)[..., None]
    light[2] *= drift
    groups = {name: light[index] for index, name in enumerate(GROUPS)}
    return House(groups, depth, position, normal, ids)
