"""Fireflies in the glasshouse: light that was drawn over the render, and that its depth knows nothing of."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from demo.night.house import HEIGHT, WIDTH

Array = NDArray[np.float32]
COUNT = 34


def make_fireflies(width: int = WIDTH, height: int = HEIGHT) -> Array:
    """H x W x 4, premultiplied: small cores that cover, in glows that only add light."""
    random = np.random.default_rng(115)
    y, x = np.mgrid[0:height, 0:width].astype(np.float32)
    made = np.zeros((height, width, 4), np.float32)
    size = width / WIDTH
    for _ in range(COUNT):
        at = random.uniform((0.06 * width, 0.12 * height), (0.94 * width, 0.82 * height))
        away = np.hypot(x - at[0], y - at[1]) / size
        near = random.uniform(0.6, 1.6)
        core = np.clip(1.6 * near + 0.5 - away, 0, 1)
        glow = np.exp(-(away**2) / (2 * (5 * near) ** 2))
        tint = np.array([0.75 + random.uniform(-0.15, 0.2), 1.0, 0.22], np.float32)
        light = (2.4 * core + 0.35 * glow) * near
        made[..., :3] = made[..., :3] * (1 - core[..., None]) + light[..., None] * tint
        made[..., 3] = 1 - (1 - made[..., 3]) * (1 - core)
    return made
