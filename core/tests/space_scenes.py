"""Scenes whose space is known exactly: a floor, a wall and a ball seen by a camera; layers seen by a lens."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numba
import numpy as np
from core_support import MemorySource
from numpy.typing import NDArray
from scipy.stats import qmc

from nexal.formats.decoded import tagged
from nexal.picture import Alpha, Trait

Array = NDArray[np.float64]
BALL, RADIUS = np.array([0.4, 1.0, 4.0]), 0.9
WALL = 9.0
EYE = np.array([-0.5, 1.6, -1.0])
SIZE = (120, 200)
"""Height and width."""
FOV = 60.0
AXES = ("X", "Y", "Z")


def camera_to_world() -> Array:
    """Column vectors: the camera looks along -z, y up; it is turned a little down and to the right."""
    forward = np.array([0.15, -0.1, 1.0])
    forward /= np.linalg.norm(forward)
    right = np.cross(np.array([0.0, 1.0, 0.0]), forward)
    right /= np.linalg.norm(right)
    made = np.eye(4)
    made[:3, 0], made[:3, 1], made[:3, 2], made[:3, 3] = right, np.cross(forward, right), -forward, EYE
    return made


def header() -> dict[str, Any]:
    """The scene's camera as the standard attributes have it."""
    wide = math.tan(math.radians(FOV) / 2)
    high = wide * SIZE[0] / SIZE[1]
    view = np.array([[0.5 / wide, 0, -0.5, 0], [0, -0.5 / high, -0.5, 0], [0, 0, 1, 0], [0, 0, -1, 0]])
    to_camera = np.linalg.inv(camera_to_world())
    # Camera space of the attribute looks along +z.
    forward = np.diag([1.0, 1, -1, 1]) @ to_camera
    return {
        "worldToNDC": tagged((view @ to_camera).T.astype(np.float32)),
        "worldToCamera": tagged(forward.T.astype(np.float32)),
    }


@dataclass(frozen=True)
class Seen:
    """What is seen through points: distance along the view, positions, normals (0 where nothing is), which thing."""

    depth: Array
    position: Array
    normal: Array
    thing: NDArray[np.int64]


def seen(x: Array, y: Array, *, sky: bool = True) -> Seen:
    """`x`, `y`: places on a picture of SIZE, of any shape. Above the horizon is nothing, or with sky=False a wall."""
    height, width = SIZE
    axes = camera_to_world()
    wide = np.tan(np.radians(FOV) / 2)
    u, v = (2 * x / width - 1) * wide, (height - 2 * y) / width * wide
    ray = axes[:3, 0][:, None] * u.ravel() + axes[:3, 1][:, None] * v.ravel() - axes[:3, 2][:, None]
    best = np.full(u.size, np.inf)
    thing = np.zeros(u.size, int)
    normal = np.zeros((3, u.size))
    with np.errstate(all="ignore"):
        floor = -EYE[1] / ray[1]
        wall = (WALL - EYE[2]) / ray[2]
        from_ball = EYE - BALL
        a, b, c = (ray**2).sum(0), 2 * from_ball @ ray, from_ball @ from_ball - RADIUS**2
        ball = (-b - np.sqrt(b * b - 4 * a * c)) / (2 * a)
    for number, distance, up in ((1, floor, (0, 1, 0)), (2, wall, (0, 0, -1)), (3, ball, None)):
        nearer = (distance > 0) & (distance < best) & ((number != 2) | (not sky))
        nearer &= (number != 1) | (floor < 40)
        best = np.where(nearer, distance, best)
        thing = np.where(nearer, number, thing)
        own = (EYE[:, None] + ray * distance - BALL[:, None]) / RADIUS if up is None else np.array(up, float)[:, None]
        normal = np.where(nearer, own, normal)
    place = np.where(thing > 0, EYE[:, None] + ray * np.where(np.isfinite(best), best, 0), 0)
    shape = np.broadcast(x, y).shape
    return Seen(best.reshape(shape), place.reshape(3, *shape), normal.reshape(3, *shape), thing.reshape(shape))


def centres(*, sky: bool = True) -> Seen:
    y, x = np.mgrid[0 : SIZE[0], 0 : SIZE[1]] + 0.5
    return seen(x, y, sky=sky)


def subpixels(grid: int = 8, *, sky: bool = True) -> Seen:
    """The same through grid x grid points of each pixel: arrays end with the number of the point."""
    y, x = np.mgrid[0 : SIZE[0], 0 : SIZE[1]].astype(float)
    offset = (np.arange(grid) + 0.5) / grid
    j, i = (part.ravel() for part in np.meshgrid(offset, offset, indexing="ij"))
    return seen(x[..., None] + i, y[..., None] + j, sky=sky)


MARGIN, TEXELS = 80, 2
"""Pixels around the picture that layers have, and texels a pixel."""


@dataclass(frozen=True)
class Layers:
    """Textured layers of a constant circle, and one slanted ground (the second), in front of a back."""

    colours: NDArray[np.float32]
    masks: NDArray[np.uint8]
    circles: NDArray[np.float32]
    ground: tuple[float, float]
    width: int
    height: int


def lens_layers(radius: float, seed: int, width: int = 320, height: int = 180) -> Layers:
    """A back wall, a ground from far to near, things that are sharp, farther and nearer, each with edges."""
    import cv2

    random = np.random.default_rng(seed)
    tall, across = (height + 2 * MARGIN) * TEXELS, (width + 2 * MARGIN) * TEXELS
    y, x = np.mgrid[0:tall, 0:across].astype(np.float32) / TEXELS - MARGIN
    k = width / 640

    def texture(base: tuple[float, float, float]) -> NDArray[np.float32]:
        found = np.zeros((tall, across, 3), np.float32)
        for channel, tone in enumerate(base):
            total = np.zeros((tall, across), np.float32)
            for size, strength in ((4, 0.35), (12, 0.5), (40, 0.5), (120, 0.4)):
                rough = random.standard_normal((tall // size + 3, across // size + 3)).astype(np.float32)
                total += strength * cv2.resize(rough, (across, tall), interpolation=cv2.INTER_CUBIC)
            found[..., channel] = tone * np.exp(0.28 * total)
        return np.clip(found, 0, 1)

    top = 150 * k
    slope = -1.7 * radius / (height - top)
    layers = [
        (0.9 * radius, (0.15, 0.3, 0.55), np.ones_like(x, bool)),
        (0.0, (0.35, 0.22, 0.1), y > top + 0.5),
        (0.45 * radius, (0.5, 0.2, 0.15), np.hypot(x - 130 * k, y - 110 * k) < 55 * k),
        (0.0, (0.15, 0.45, 0.2), (np.hypot(x - 330 * k, y - 150 * k) < 70 * k) | (np.abs(x - 440 * k) < 3)),
        (-0.6 * radius, (0.75, 0.65, 0.3), np.abs((y - 60 * k) - 0.25 * (x - 300 * k)) < 9 * k),
        (-1.0 * radius, (0.2, 0.2, 0.6), np.abs(x - 600 * k) < 14 * k),
    ]
    return Layers(
        np.stack([texture(base) for _, base, _ in layers]),
        np.stack([mask for *_, mask in layers]).astype(np.uint8),
        np.array([circle for circle, *_ in layers], np.float32),
        (0.8 * radius - slope * top, slope),
        width,
        height,
    )


@numba.njit(cache=True, nogil=True, parallel=True)
def _through(colours, masks, circles, start, slope, points, offsets, light, circle):  # type: ignore[no-untyped-def]
    height, width, _ = light.shape
    for y in numba.prange(height):
        for x in range(width):
            for s in range(points.shape[0]):
                px, py = x + offsets[s, 0], y + offsets[s, 1]
                best, layer, bi, bj = 1e9, -1, 0, 0
                for index in range(circles.shape[0]):
                    own = circles[index]
                    if index == 1:
                        qy = (py - start * points[s, 1]) / (1 + slope * points[s, 1])
                        own = start + slope * qy
                    else:
                        qy = py - own * points[s, 1]
                    if own >= best:
                        continue
                    qx = px - own * points[s, 0]
                    j, i = int((qy + MARGIN) * TEXELS), int((qx + MARGIN) * TEXELS)
                    inside = 0 <= j < masks.shape[1] and 0 <= i < masks.shape[2]
                    if inside and masks[index, j, i]:
                        best, layer, bi, bj = own, index, i, j
                if layer >= 0:
                    for c in range(3):
                        light[y, x, c] += colours[layer, bj, bi, c] / points.shape[0]
                if s == 0:
                    circle[y, x] = best


def through_lens(layers: Layers, count: int) -> NDArray[np.float32]:
    """The picture averaged over so many points of a round lens and of the pixel: what defocus should give."""
    found = qmc.Sobol(4, seed=1).random(count)
    away, turn = np.sqrt(found[:, 0]), 2 * np.pi * found[:, 1]
    points = np.stack([away * np.cos(turn), away * np.sin(turn)], axis=1).astype(np.float32)
    return _seen_through(layers, points, found[:, 2:].astype(np.float32))[0]


def through_pinhole(layers: Layers) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """The sharp picture, averaged over the pixel, and the circle of each pixel's centre."""
    offset = (np.arange(8) + 0.5) / 8
    grid = np.stack(np.meshgrid(offset, offset), axis=-1).reshape(-1, 2)
    offsets = np.concatenate([[[0.5001, 0.5001]], grid]).astype(np.float32)
    return _seen_through(layers, np.zeros_like(offsets), offsets)


def _seen_through(layers, points, offsets):  # type: ignore[no-untyped-def]
    light = np.zeros((layers.height, layers.width, 3), np.float32)
    circle = np.zeros((layers.height, layers.width), np.float32)
    _through(layers.colours, layers.masks, layers.circles, *layers.ground, points, offsets, light, circle)
    return light, circle


def scene_sources(**more: MemorySource) -> dict[str, MemorySource]:
    """Depth, positions, normals and a grey picture of the scene, its camera in the header; nothing is 1e10."""
    found = centres()
    there = found.thing > 0
    whole = subpixels(4)
    cover = (whole.thing > 0).mean(axis=-1).astype(np.float32)
    made = {
        "deep": MemorySource({"Z": np.where(there, found.depth, 1e10)}, traits={"Z": Trait("depth")}),
        "where": MemorySource(dict(zip(AXES, found.position, strict=True)), data=AXES),
        "facing": MemorySource(dict(zip(AXES, found.normal, strict=True)), data=AXES),
        "cover": MemorySource({"Y": cover}, data=["Y"]),
        "pic": MemorySource(
            {name: np.full(SIZE, 0.3) * cover for name in "RGB"} | {"A": cover}, alpha=Alpha.PREMULTIPLIED
        ),
    }
    for source in made.values():
        source.description = source.description.changed(metadata=header())
    return made | more
