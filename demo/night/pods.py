"""Seed pods drifting through the lamplight with heavy motion blur: the true straight colour and alpha of soft edges.

Each pod is a sprite that moves and turns while the shutter is open; the mean of its premultiplied pictures at many
moments is what the camera sees.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from demo.night.drawing import Canvas, Plane, bezier, noise

WIDTH, HEIGHT = 1280, 720
MOMENTS = 72
SPRITE = 320
PODS = (
    # x, y, size, angle (degrees), drift in x and y, turn while the shutter is open, seed
    (250, 210, 0.95, 20, 90, 34, 10, 1),
    (600, 150, 0.55, -60, 60, 22, -22, 2),
    (930, 240, 1.0, 130, 110, 60, 16, 3),
    (400, 480, 1.15, -25, 36, 12, 5, 4),
    (770, 520, 0.8, 75, 120, 10, -12, 5),
    (1090, 520, 0.9, -110, 70, -44, 20, 6),
    (150, 590, 0.5, 160, 44, 26, 30, 7),
)


@dataclass(frozen=True)
class Pods:
    """`colour` H x W x 3, straight, scene-linear, 0 where `alpha` (H x W) is 0."""

    colour: Plane
    alpha: Plane

    @property
    def premultiplied(self) -> Plane:
        return self.colour * self.alpha[..., None]

    def over(self, backing: Plane | tuple[float, float, float]) -> Plane:
        """The pods over a backing, in whatever values both are."""
        return self.premultiplied + np.asarray(backing, np.float32) * (1 - self.alpha[..., None])


def _sprite(seed: int) -> tuple[Plane, Plane]:
    """A pod with its tuft: straight colour and alpha; the wing of the seed is translucent, the husk is not."""
    middle = SPRITE / 2
    husk, wing, tuft = (Canvas(SPRITE, SPRITE) for _ in range(3))
    outline = [
        (middle - 92, middle), (middle - 60, middle - 44), (middle + 10, middle - 40), (middle + 70, middle),
        (middle + 10, middle + 40), (middle - 60, middle + 44), (middle - 92, middle),
    ]  # fmt: skip
    husk.fill(bezier(outline))
    sail = [
        (middle - 40, middle - 8), (middle - 10, middle - 90), (middle + 96, middle - 96), (middle + 128, middle - 18),
        (middle + 70, middle - 6), (middle + 10, middle + 2), (middle - 40, middle - 8),
    ]  # fmt: skip
    wing.fill(bezier(sail))
    random = np.random.default_rng(seed)
    for turn in np.linspace(-0.9, 0.9, 21):
        length = random.uniform(36, 58)
        end = (middle + 66 + length * np.cos(turn), middle + length * np.sin(turn))
        tuft.line(np.array([(middle + 60, middle), end]), 1.6)
    solid = husk.coverage()
    veil = wing.coverage() * (0.35 + 0.3 * noise(SPRITE, SPRITE, 24, seed + 20, 2))
    fluff = tuft.coverage() * 0.8
    grain = 0.6 + 0.8 * noise(SPRITE, SPRITE, 14, seed + 40, 4)[..., None]
    y = np.linspace(-1, 1, SPRITE, dtype=np.float32)[:, None, None]
    colour = np.array([0.30, 0.13, 0.05], np.float32) * grain * (1.15 - 0.5 * y)
    premultiplied, alpha = colour * solid[..., None], solid
    for above, tone in ((veil, (0.62, 0.50, 0.24)), (fluff, (0.85, 0.80, 0.70))):
        lit = np.array(tone, np.float32) * (0.75 + 0.5 * noise(SPRITE, SPRITE, 30, seed + 60, 3)[..., None])
        premultiplied = premultiplied * (1 - above[..., None]) + lit * above[..., None]
        alpha = alpha * (1 - above) + above
    return premultiplied, alpha


def make_pods(width: int = WIDTH, height: int = HEIGHT) -> Pods:
    """Draw at a size; positions and sizes are scaled with it."""
    scale = width / WIDTH
    light, alpha = np.zeros((height, width, 3), np.float32), np.zeros((height, width), np.float32)
    for x, y, size, angle, across, down, turn, seed in PODS:
        colour, cover = _sprite(seed)
        sprite = np.dstack([colour, cover])
        # Only the part of the picture that the pod can reach.
        reach = SPRITE * size / 2 * 1.45
        left, right = (int(np.clip((x + side * (reach + across / 2)) * scale, 0, width)) for side in (-1, 1))
        top, bottom = (int(np.clip((y + side * (reach + abs(down) / 2)) * scale, 0, height)) for side in (-1, 1))
        total = np.zeros((bottom - top, right - left, 4), np.float32)
        for moment in (np.arange(MOMENTS) + 0.5) / MOMENTS - 0.5:
            matrix = cv2.getRotationMatrix2D((SPRITE / 2, SPRITE / 2), -(angle + turn * moment), size * scale)
            matrix[0, 2] += (x + across * moment) * scale - SPRITE / 2 - left
            matrix[1, 2] += (y + down * moment) * scale - SPRITE / 2 - top
            total += cv2.warpAffine(sprite, matrix, (right - left, bottom - top), flags=cv2.INTER_LINEAR)
        total = np.clip(total / MOMENTS, 0, None)
        keep = 1 - total[..., 3:]
        part = np.s_[top:bottom, left:right]
        light[part] = light[part] * keep + total[..., :3]
        alpha[part] = alpha[part] * keep[..., 0] + total[..., 3]
    alpha = np.where(alpha < 1e-4, 0, np.minimum(alpha, 1)).astype(np.float32)
    colour = np.divide(light, alpha[..., None], out=np.zeros_like(light), where=alpha[..., None] > 0)
    return Pods(colour, alpha)
