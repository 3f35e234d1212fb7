"""Subjects before coloured screens whose alpha is known: painted large, composited, and averaged down."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float32]
WIDTH, HEIGHT, FINE = 320, 180, 4
SCREENS = {"green": (0.075, 0.36, 0.10), "blue": (0.045, 0.11, 0.40)}
NOISE = (4e-6, 2.5e-4)
"""Base and slope of the variance of the noise over the signal."""


@dataclass(frozen=True)
class Shot:
    """`shot`, `plate` and `empty` (a plate as it would be filmed): 3 x H x W, scene-linear; `alpha`: H x W."""

    shot: Array
    plate: Array
    empty: Array
    alpha: Array
    screen: str


class _Layers:
    """Premultiplied colour, alpha and spill at `FINE` times the size."""

    def __init__(self) -> None:
        self.held = np.zeros((HEIGHT * FINE, WIDTH * FINE, 5), np.float32)

    def over(self, colour: Any, cover: Array, spill: float) -> None:
        top = np.empty_like(self.held)
        top[..., :3], top[..., 3], top[..., 4] = colour, 1, spill
        self.held += (top - self.held) * cover[..., None]

    def small(self) -> Array:
        return np.moveaxis(
            np.dstack(
                [cv2.resize(self.held[..., at], (WIDTH, HEIGHT), interpolation=cv2.INTER_AREA) for at in range(5)]
            ),
            -1,
            0,
        )


def _clouds(random: np.random.Generator, size: float, shape: tuple[int, int]) -> Array:
    made = np.zeros(shape, np.float32)
    for octave in range(3):
        count = [max(2, int(side / size * 2**octave) + 2) for side in shape]
        rough = random.standard_normal(count).astype(np.float32)
        made += cv2.resize(rough, shape[::-1], interpolation=cv2.INTER_CUBIC) / 2**octave
    return np.clip(made / 1.6, -1.5, 1.5)


def _ellipse(x: float, y: float, width: float, height: float) -> Array:
    mask = np.zeros((HEIGHT * FINE, WIDTH * FINE), np.uint8)
    cv2.ellipse(mask, (int(x * FINE), int(y * FINE)), (int(width * FINE), int(height * FINE)), 0, 0, 360, 1, -1)
    return mask.astype(np.float32)


def _hairs(random: np.random.Generator, count: int, length: float) -> Array:
    mask = np.zeros((HEIGHT * FINE, WIDTH * FINE), np.uint8)
    for _ in range(count):
        turn = random.uniform(-3.3, 0.2)
        x, y = 160 + 42 * np.cos(turn), 95 + 52 * np.sin(turn)
        bend = random.normal(0, 0.05)
        points = []
        for _ in range(16):
            points.append((x * FINE, y * FINE))
            turn += bend
            x, y = x + length / 16 * np.cos(turn), y + length / 16 * np.sin(turn)
        cv2.polylines(mask, [np.array(points, np.int32)], False, 1, int(random.integers(1, 4)), cv2.LINE_8)
    return mask.astype(np.float32)


def _body(layers: _Layers, random: np.random.Generator, mask: Array, colour: tuple[float, ...], spill: float) -> None:
    away = cv2.distanceTransform((mask > 0).astype(np.uint8), cv2.DIST_L2, 3)
    light = (
        0.55 + 0.6 * np.sqrt(np.clip(away / max(float(away.max()), 1), 0, 1)) + 0.1 * _clouds(random, 60, mask.shape)
    )
    layers.over(np.array(colour, np.float32) * light[..., None], mask, spill)


def _head(layers: _Layers, random: np.random.Generator) -> None:
    hair = (0.16, 0.1, 0.06)
    layers.over(np.array(hair, np.float32), _hairs(random, 260, 46), 0.05)
    _body(layers, random, _ellipse(160, 100, 42, 54), hair, 0.05)
    _body(layers, random, _ellipse(160, 112, 27, 36), (0.6, 0.4, 0.3), 0.04)
    _body(layers, random, _ellipse(160, 190, 84, 40), (0.34, 0.3, 0.36), 0.05)


def _veil(layers: _Layers, random: np.random.Generator) -> None:
    _body(layers, random, _ellipse(120, 120, 34, 70), (0.5, 0.36, 0.3), 0.04)
    thick = 0.5 + 0.22 * _clouds(random, 160, (HEIGHT * FINE, WIDTH * FINE))
    cloth = cv2.GaussianBlur(_ellipse(190, 100, 64, 62), (0, 0), 2 * FINE)
    layers.over(np.array((0.62, 0.58, 0.6), np.float32), np.clip(thick, 0.15, 0.95) * cloth, 0.03)


def _leaves(layers: _Layers, random: np.random.Generator) -> None:
    for _ in range(46):
        x, y = random.uniform(60, 260), random.uniform(30, 160)
        size = random.uniform(5, 15)
        tone = random.uniform(0.6, 1.3)
        colour = (
            (0.34 * tone, 0.2 * tone, 0.09 * tone) if random.random() < 0.6 else (0.5 * tone, 0.44 * tone, 0.3 * tone)
        )
        _body(layers, random, _ellipse(x, y, size, size * random.uniform(0.3, 0.7)), colour, 0.05)


def _thrown(layers: _Layers, random: np.random.Generator) -> None:
    _body(layers, random, _ellipse(200, 90, 40, 40), (0.5, 0.14, 0.1), 0.05)
    layers.held = cv2.blur(layers.held, (17 * FINE, 1))
    _body(layers, random, _ellipse(90, 130, 46, 60), (0.2, 0.22, 0.3), 0.05)


SCENES: dict[str, Callable[[_Layers, np.random.Generator], None]] = {
    "head": _head, "veil": _veil, "leaves": _leaves, "thrown": _thrown,
}  # fmt: skip


def noisy(light: Array, seed: int) -> Array:
    random = np.random.default_rng(seed)
    sigma = np.sqrt(NOISE[0] + NOISE[1] * np.maximum(light, 0))
    return (light + sigma * random.standard_normal(light.shape)).astype(np.float32)


def filmed(name: str, screen: str, seed: int = 0) -> Shot:
    """A scene before a screen that is lit unevenly; spill takes the screen's colour. `seed` is that of the noise."""
    random = np.random.default_rng(sum(map(ord, name)))
    layers = _Layers()
    SCENES[name](layers, random)
    r, g, b, alpha, spill = layers.small()
    y, x = np.mgrid[0:HEIGHT, 0:WIDTH].astype(np.float32)
    lit = (
        1
        - 0.3 * ((x / WIDTH - 0.4) ** 2 * 1.5 + (y / HEIGHT - 0.3) ** 2)
        + 0.04 * _clouds(random, 120, (HEIGHT, WIDTH))
    )
    plate = (np.array(SCREENS[screen], np.float32)[:, None, None] * lit).astype(np.float32)
    wide = np.stack([cv2.GaussianBlur(plane, (0, 0), 40) for plane in plate])
    light = np.stack([r, g, b]) + spill * wide + plate * (1 - alpha)
    return Shot(noisy(light, 2 * seed + 5), plate, noisy(plate, 2 * seed + 6), alpha, screen)


def subject_of(name: str) -> Array:
    """The subject's own premultiplied light, 3 x H x W, without any spill."""
    layers = _Layers()
    SCENES[name](layers, np.random.default_rng(sum(map(ord, name))))
    return layers.small()[:3]


GROUNDS = {"plants": (0.10, 0.16, 0.07), "room": (0.30, 0.24, 0.18)}


def _ground(kind: str) -> Array:
    """Something to stand before that is no screen: tones that go up and down, and bars, out of focus."""
    random = np.random.default_rng(3)
    base = np.array(GROUNDS[kind], np.float32)
    plants = kind == "plants"
    tones = [
        0.5 * _clouds(random, 60, (HEIGHT, WIDTH)) + (0.2 * _clouds(random, 14, (HEIGHT, WIDTH)) if plants else 0)
        for _ in range(3)
    ]
    light = np.ascontiguousarray(base * np.exp(np.stack(tones, axis=-1)), np.float32)
    for _ in range(40 if plants else 10):
        x, y = random.uniform(0, WIDTH), random.uniform(0, HEIGHT)
        end = (int(x + random.normal(0, 30)), int(y + random.normal(0, 45)))
        tone = (base * np.exp(random.normal(0, 0.7, 3))).tolist()
        cv2.line(light, (int(x), int(y)), end, tone, int(random.uniform(1, 8)))
    return np.moveaxis(cv2.GaussianBlur(light, (0, 0), 1.5 if plants else 0.7), -1, 0)


def composited(name: str, kind: str) -> Shot:
    """A scene before `plants` or a `room`."""
    layers = _Layers()
    SCENES[name](layers, np.random.default_rng(sum(map(ord, name))))
    r, g, b, alpha, _ = layers.small()
    ground = _ground(kind)
    return Shot(noisy(np.stack([r, g, b]) + ground * (1 - alpha), 5), ground, noisy(ground, 77), alpha, "")


def scribbles(alpha: Array) -> list[dict[str, Any]]:
    """Strokes as somebody paints them: seven over what is surely subject, seven over what surely is not."""
    random = np.random.default_rng(3)
    strokes: list[dict[str, Any]] = []
    for value, sure in ((1.0, alpha > 0.995), (0.0, alpha < 0.005)):
        inner = cv2.erode(sure.astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
        ys, xs = np.nonzero(inner)
        for _ in range(7):
            i, j = random.integers(len(ys)), random.integers(len(ys))
            way = np.linspace(0, 0.5, 30)[:, None]
            points = np.array([xs[i], ys[i]]) * (1 - way) + np.array([xs[j], ys[j]]) * way
            # As far as it stays on its side.
            inside = inner[points[:, 1].astype(int), points[:, 0].astype(int)]
            count = len(inside) if inside.all() else int(np.argmin(inside))
            strokes.append({"points": (points[: max(1, count)] + 0.5).tolist(), "radius": 1.5, "value": value})
    return strokes
