"""Shapes drawn at four times the size and averaged down: soft edges with known coverage."""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np
from numpy.typing import NDArray

Plane = NDArray[np.float32]
Points = NDArray[np.float64]
OVERSAMPLE = 4


class Canvas:
    """A coverage mask under construction. Positions in final pixels."""

    def __init__(self, width: int, height: int) -> None:
        self.size = (width, height)
        self._large = np.zeros((height * OVERSAMPLE, width * OVERSAMPLE), np.uint8)

    def fill(self, outline: Points) -> None:
        corners = np.round(outline * OVERSAMPLE * 16).astype(np.int32)
        cv2.fillPoly(self._large, [corners], 255, shift=4)

    def line(self, points: Points, width: float, value: int = 255) -> None:
        path = np.round(points * OVERSAMPLE * 16).astype(np.int32)
        cv2.polylines(self._large, [path], False, value, max(1, round(width * OVERSAMPLE)), shift=4)

    def coverage(self) -> Plane:
        small = cv2.resize(self._large, self.size, interpolation=cv2.INTER_AREA)
        return small.astype(np.float32) / np.float32(255)


def bezier(points: Sequence[tuple[float, float]], steps: int = 40) -> Points:
    """Points on a chain of cubic curves given by 3n + 1 control points."""
    control = np.asarray(points, np.float64)
    t = np.linspace(0, 1, steps)[:, None]
    parts = []
    for start in range(0, len(control) - 1, 3):
        a, b, c, d = control[start : start + 4]
        parts.append(a * (1 - t) ** 3 + 3 * b * t * (1 - t) ** 2 + 3 * c * t * t * (1 - t) + d * t**3)
    return np.concatenate(parts)


def noise(width: int, height: int, cell: float, seed: int, octaves: int = 4) -> Plane:
    """Soft random clouds in 0..1: grids of random values, each octave half the cell and half the strength."""
    random = np.random.default_rng(seed)
    total = np.zeros((height, width), np.float32)
    weight, sum_of_weights = 1.0, 0.0
    for _ in range(octaves):
        grid = random.random((int(height / cell) + 3, int(width / cell) + 3), np.float32)
        large = cv2.resize(grid, None, fx=cell, fy=cell, interpolation=cv2.INTER_CUBIC)
        top, left = int(cell / 2), int(cell / 2)
        total += np.float32(weight) * large[top : top + height, left : left + width]
        sum_of_weights += weight
        weight, cell = weight / 2, max(1.0, cell / 2)
    return np.clip(total / np.float32(sum_of_weights), 0, 1)


def blur(plane: Plane, sigma: float) -> Plane:
    return cv2.GaussianBlur(plane, (0, 0), sigma, borderType=cv2.BORDER_REPLICATE)


def over(colour: Plane, alpha: Plane, upper: Plane | Sequence[float], coverage: Plane) -> tuple[Plane, Plane]:
    """Straight colour (H x W x 3) and alpha with something opaque laid over where it covers."""
    upper = np.broadcast_to(np.asarray(upper, np.float32), colour.shape)
    result = coverage + alpha * (1 - coverage)
    share = np.divide(coverage, result, out=np.zeros_like(coverage), where=result > 0)[..., None]
    return colour * (1 - share) + upper * share, result
