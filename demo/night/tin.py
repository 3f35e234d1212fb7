"""The painted tea tin: base colour, a template map with roughness in it already, occlusion, metal, and a decal."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from demo.night.drawing import Canvas, Plane, bezier, blur, noise
from demo.night.fern import frond

SIZE, SMALL = 2048, 1024
RIM = 0.07
"""Part of the height, above and below, that is wrapped round the rims."""


@dataclass(frozen=True)
class Tin:
    """Planes of SIZE x SIZE, 0..1; `metal` and the emblem are SMALL x SMALL. Colour is scene-linear."""

    base: Plane
    template: Plane
    occlusion: Plane
    metal: Plane
    emblem: Plane
    emblem_alpha: Plane


def _grid(size: int) -> tuple[Plane, Plane]:
    y, x = np.mgrid[0:size, 0:size].astype(np.float32)
    return (x + 0.5) / size, (y + 0.5) / size


def _round(size: int, cell: float, seed: int, octaves: int = 4) -> Plane:
    """Clouds that go on where the tin's seam joins them: the last tenth fades into what the first has."""
    clouds = noise(size + size // 10, size, cell, seed, octaves)
    blend = np.clip((np.arange(size, dtype=np.float32) - size * 0.9) / (size * 0.1), 0, 1)[None, :]
    wrapped = np.concatenate([np.zeros((size, size - size // 10), np.float32), clouds[:, : size // 10]], axis=1)
    return clouds[:, size // 10 :] * (1 - blend) + wrapped * blend


def _step(low: float, high: float, value: Plane) -> Plane:
    t = np.clip((value - low) / (high - low), 0, 1)
    return t * t * (3 - 2 * t)


def _rims(size: int) -> Plane:
    _, y = _grid(size)
    edge = 0.004
    return _step(RIM + edge, RIM - edge, y) + _step(1 - RIM - edge, 1 - RIM + edge, y)


def _chips(size: int) -> Plane:
    """Where the enamel is worn off: few places, most of them near the rims."""
    _, y = _grid(size)
    near = np.exp(-(((np.minimum(y, 1 - y) - RIM) / 0.09) ** 2))
    clouds = _round(size, size / 14, 31, 5)
    return _step(0.672, 0.7, clouds + 0.09 * near)


def _emblem() -> tuple[Plane, Plane]:
    """A gilded frond in an oval, straight colour and soft alpha."""
    canvas = Canvas(SMALL, SMALL)
    stem = bezier([(512, 800), (500, 640), (530, 420), (512, 195)], 21)
    frond(stem, 215, canvas)
    turn = np.linspace(0, 2 * np.pi, 241)
    for radius, width in ((1.0, 11.0), (0.93, 4.0)):
        oval = np.stack([512 + 318 * radius * np.cos(turn), 512 + 392 * radius * np.sin(turn)], axis=1)
        canvas.line(oval, width)
    alpha = np.clip(blur(canvas.coverage(), 1.6) * 1.05, 0, 1)
    _, y = _grid(SMALL)
    shade = (0.85 + 0.15 * noise(SMALL, SMALL, 70, 41, 3) + 0.1 * (0.5 - y))[..., None]
    return (shade * np.array((0.86, 0.6, 0.22), np.float32)).astype(np.float32), alpha.astype(np.float32)


def make_tin() -> Tin:
    x, y = _grid(SIZE)
    rims, chips = _rims(SIZE), _chips(SIZE)
    metal = np.maximum(rims, chips)
    bands = np.exp(-(((np.abs(y - 0.5) - 0.395) / 0.006) ** 2))[..., None]
    cloudy = _round(SIZE, 260, 21, 5)
    enamel = np.array((0.035, 0.19, 0.185), np.float32) * (0.72 + 0.5 * cloudy)[..., None]
    enamel = enamel * (1 - 0.25 * np.abs(y - 0.45))[..., None]
    enamel = enamel * (1 - bands) + np.array((0.62, 0.5, 0.26), np.float32) * bands
    brass = np.array((0.78, 0.57, 0.3), np.float32) * (0.8 + 0.3 * _round(SIZE, 40, 22, 3))[..., None]
    base = enamel * (1 - metal)[..., None] + brass * metal[..., None]

    scratches = Canvas(SIZE, SIZE)
    random = np.random.default_rng(23)
    for _ in range(140):
        start = random.uniform(0, SIZE, 2)
        turn, length = random.normal(0, 0.5), random.uniform(30, 240)
        end = start + length * np.array([np.cos(turn), np.sin(turn)])
        scratches.line(np.array([start, end]), random.uniform(0.6, 1.8))
    rough = 0.3 + 0.3 * _round(SIZE, 180, 24, 5) + 0.16 * scratches.coverage() + 0.05 * _round(SIZE, 12, 25, 2)
    worn = 0.5 * _step(0.62, 0.8, _round(SIZE, 320, 26, 4))
    template = np.stack([np.ones_like(rough), np.clip(rough, 0, 1), worn], axis=-1)
    crease = np.exp(-(((np.minimum(y, 1 - y) - RIM) / 0.018) ** 2))
    occlusion = 1 - 0.62 * crease - 0.08 * _round(SIZE, 90, 27, 3)
    emblem, alpha = _emblem()
    small = np.maximum(_rims(SMALL), _chips(SMALL))
    return Tin(base, template, occlusion.astype(np.float32), small, emblem, alpha)
