"""Moving scenes before a screen whose mattes flicker at known frames, by screen, lamp or hand, or not at all.

All is drawn by formulas: a body with strands of hair is drawn large once, moved, turned, and averaged; its texture and
that of the screen are smoothed noise. The matte is a pull of the picture, or the truth as a hand changed it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

import cv2
import numpy as np
from core_support import MemorySource, one

from nexal.analysis.steady import steady, summary
from nexal.engine import Engine, Plan
from nexal.picture import Plane
from nexal.recipe import parse_recipe

WIDTH, HEIGHT, FRAMES, FINE = 320, 180, 16, 2
MARGIN = 60
Kind = Literal["screen", "lamp", "hand", "none"]
MATTE_BEFORE_PICTURE = parse_recipe(
    {
        "nexal": 1,
        "sources": {"s": {"files": "s"}, "m": {"files": "m"}},
        "steps": [
            {"name": "cut", "op": "attach_alpha", "in": {"picture": "s", "alpha": "m.M"}},
            {"name": "matte", "op": "copy_channel", "in": {"from": "cut.A"}},
        ],
    }
)
"""The step `matte` is the channel M of the source `m`, which belongs to the picture `s`."""
KINDS: tuple[Kind, ...] = ("screen", "lamp", "hand", "none")


@dataclass(frozen=True)
class FlickerScene:
    """Pictures (T x H x W x 3, linear light), their mattes, and for each frame how far the event moves them from the
    frame before: the mean over the pixels within 4 px of soft ones."""

    pictures: list[Plane]
    mattes: list[Plane]
    made: list[float]


def texture(dice: np.random.Generator, shape: tuple[int, int], sigma: float, low: float, high: float) -> Plane:
    """Noise, smoothed, from `low` to `high`."""
    noise = cv2.GaussianBlur(dice.standard_normal(shape).astype(np.float32), (0, 0), sigma)
    noise = (noise - noise.min()) / (noise.max() - noise.min())
    return np.asarray(low + (high - low) * noise, np.float32)


class Drawing:
    """A body with hair, as premultiplied light and alpha, and the screen behind it; both reach beyond the picture."""

    def __init__(self, dice: np.random.Generator) -> None:
        self.dice = dice
        size = ((HEIGHT + 2 * MARGIN) * FINE, (WIDTH + 2 * MARGIN) * FINE)
        alpha = np.zeros(size, np.uint8)
        centre = np.array([size[1] / 2, size[0] / 2])
        angle = np.linspace(0, 2 * np.pi, 200, endpoint=False)
        radius = 45 * FINE * (1 + sum(0.1 / n * np.sin(n * angle + dice.uniform(0, 6.3)) for n in (2, 3, 5)))
        body = centre + radius[:, None] * np.stack([np.cos(angle), 1.2 * np.sin(angle)], 1)
        cv2.fillPoly(alpha, [np.round(body * 16).astype(np.int32)], 255, cv2.LINE_AA, 4)
        for _ in range(70):
            turn = dice.uniform(np.pi, 2 * np.pi)
            steps = np.linspace(0, 1, 16)[:, None]
            bent = turn + dice.normal(0, 0.8) * steps
            start = centre + 44 * FINE * np.array([np.cos(turn), 1.2 * np.sin(turn)])
            points = start + np.cumsum(np.hstack([np.cos(bent), np.sin(bent)]), 0) * dice.uniform(1, 3) * FINE
            cv2.polylines(
                alpha, [np.round(points * 16).astype(np.int32)], False, 255, int(dice.integers(1, 4)), cv2.LINE_AA, 4
            )
        self.alpha = alpha.astype(np.float32) / 255
        tint = dice.uniform(0.3, 1, 3) * [1, 0.5, 0.9]
        self.light = texture(dice, size, 5, 0.05, 0.7)[..., None] * tint.astype(np.float32)
        self.screen = texture(dice, size, 9, 0.8, 1.1)[..., None] * np.array([0.08, 0.42, 0.1], np.float32)

    @staticmethod
    def seen(layer: Plane, x: float, y: float, turn: float = 0.0) -> Plane:
        """A layer moved by some pixels and turned, as the picture shows it: samples averaged."""
        matrix = cv2.getRotationMatrix2D((layer.shape[1] / 2, layer.shape[0] / 2), turn, 1.0)
        matrix[:, 2] += [(x - MARGIN) * FINE, (y - MARGIN) * FINE]
        moved = cv2.warpAffine(
            layer, matrix, (WIDTH * FINE, HEIGHT * FINE), flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT
        )
        return np.asarray(cv2.resize(moved, (WIDTH, HEIGHT), interpolation=cv2.INTER_AREA), np.float32)


def band(*mattes: Plane) -> np.ndarray:
    """The pixels within 4 px of a soft one of any of the mattes."""
    soft = np.any([(matte > 0.01) & (matte < 0.99) for matte in mattes], axis=0)
    return cv2.distanceTransform((~soft).astype(np.uint8), cv2.DIST_L2, cv2.DIST_MASK_PRECISE) <= 4


def pulled(picture: Plane) -> Plane:
    """The matte of a picture, by the screen's colour as it is on most frames."""
    source = MemorySource({name: np.ascontiguousarray(picture[..., at]) for at, name in enumerate("RGB")})
    set_to = {"reference": [0.076, 0.4, 0.095], "black": 0.05, "white": 0.9}
    return one("screen_pull", {"picture": "s"}, {"s": source}, **set_to).planes["Y"]


def lit(layers: tuple[Plane, Plane, Plane], grain: Plane, screen_by: float = 0, all_by: float = 0) -> Plane:
    """A picture of light, alpha and screen: the screen brighter by a part, and all of it, more so to the right."""
    light, alpha, screen = layers
    x = np.linspace(0, 1, WIDTH, dtype=np.float32)[None, :, None]
    picture = (light + (1 - alpha[..., None]) * screen * (1 + screen_by)) * (1 + all_by * x)
    return np.asarray(np.maximum(picture + grain * np.sqrt(picture + 0.02), 0), np.float32)


def scene(kind: Kind, seed: int) -> FlickerScene:
    """16 frames with two events of a kind: of the screen's light, of all light, or of a hand. Of odd seeds the body
    stands still at first and goes ever faster then; all drift in brightness, and have noise."""
    dice = np.random.default_rng(seed)
    drawing = Drawing(dice)
    eventful = [] if kind == "none" else [dice.integers(3, 8), dice.integers(10, 15)]
    strength = dice.uniform(0.06, 0.3)
    speed, swing, pan = dice.uniform(-3, 3, 2), dice.uniform(0, 8), dice.uniform(-1.5, 1.5)
    drift, noise = dice.uniform(-0.05, 0.05), dice.uniform(0.002, 0.008)
    pictures, mattes, plain = [], [], []
    for number in range(FRAMES):
        at = number - FRAMES / 2
        if seed % 2:
            at = max(0.0, at) ** 2 / 8
        place = speed[0] * at + swing * np.sin(at * 0.7), speed[1] * at * 0.5, 0.4 * at
        brightness = np.float32(1 + drift * number / FRAMES)
        alpha = drawing.seen(drawing.alpha, *place)
        light = drawing.seen(drawing.light * drawing.alpha[..., None], *place) * brightness
        layers = light, alpha, drawing.seen(drawing.screen, pan * at, 0) * brightness
        grain = dice.standard_normal((HEIGHT, WIDTH, 3)).astype(np.float32) * np.float32(noise)
        event = strength if number in eventful else 0.0
        still = lit(layers, grain)
        by = {"screen": (event, 0), "lamp": (0, event)}.get(kind, (0, 0))
        pictures.append(lit(layers, grain, *by))
        if kind == "hand":
            grown = cv2.GaussianBlur(cv2.dilate(alpha, np.ones((3, 3))), (0, 0), 0.7)
            plain.append(alpha)
            mattes.append(alpha + np.float32(event / 0.3) * (grown - alpha))
        else:
            plain.append(pulled(still))
            mattes.append(pulled(pictures[-1]))
    off = [np.abs(matte - without) for matte, without in zip(mattes, plain, strict=True)]
    made = [0.0]
    for number in range(1, FRAMES):
        near = band(mattes[number], mattes[number - 1])
        made.append(max(float(off[each][near].mean()) for each in (number, number - 1)))
    return FlickerScene(pictures, mattes, made)


def told_of(pictures: Sequence[Plane], mattes: Sequence[Plane]) -> dict[str, Any]:
    """What is told of mattes before their pictures."""

    def plan(frame: int) -> Plan:
        planes = {name: np.ascontiguousarray(pictures[frame - 1][..., at]) for at, name in enumerate("RGB")}
        matte = MemorySource({"M": mattes[frame - 1]}, name=f"m{frame}")
        return Plan(MATTE_BEFORE_PICTURE, frame, {"s": MemorySource(planes, name=f"s{frame}"), "m": matte})

    return summary(list(steady(Engine(threads=2), plan, "matte", range(1, len(pictures) + 1))))
