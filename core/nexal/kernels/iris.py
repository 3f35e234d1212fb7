"""The opening of a lens, as rows of spans that a point out of focus is spread over.

An iris of blades is bounded by arcs from corner to corner, between straight (roundness 0) and the circle (1). Its area
is that of the disc of the same radius, so that light and strength of blur stay.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

STEP = 0.25
"""Radii that there are tables for lie so far apart, in pixels."""
_SUB = 8
"""Lines within a row that its span is the mean of."""
_ANGLES = 2048


@dataclass(frozen=True)
class Iris:
    """`blades` 0 for a disc or 5 to 9; `roundness` 0 to 1; `turn` in degrees."""

    blades: int = 0
    roundness: float = 0.0
    turn: float = 0.0


@dataclass(frozen=True)
class Spans:
    """Rows of the iris of each radius 0, STEP, 2 STEP...; [0] beyond the focus, [1] mirrored before it.

    `first` (2 x K) is where the table of a radius begins, with the row that lies `half` (2 x K) above its middle; per
    row: offsets of the pixels where its span begins and ends, and two weights for each end. The weights of a radius add
    up to 1.
    """

    first: NDArray[np.int32]
    half: NDArray[np.int32]
    left: NDArray[np.int32]
    right: NDArray[np.int32]
    weights: NDArray[np.float32]


def outline(iris: Iris) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Points x, y around the opening, whose area is pi."""
    angles = np.arange(_ANGLES) * (2 * math.pi / _ANGLES)
    radius = np.ones(_ANGLES)
    if iris.blades >= 3 and iris.roundness < 1:
        step = 2 * math.pi / iris.blades
        t = (angles - math.radians(iris.turn)) % step - step / 2
        middle, half = math.cos(step / 2), math.sin(step / 2)
        # The arc's radius goes from endless (straight) to that of the circle.
        arc = max(1 / max(iris.roundness, 1e-6), half)
        centre = middle - math.sqrt(max(arc * arc - half * half, 0.0))
        radius = centre * np.cos(t) + np.sqrt(np.maximum(arc * arc - (centre * np.sin(t)) ** 2, 0))
    x, y = radius * np.cos(angles), radius * np.sin(angles)
    area = 0.5 * float(np.sum(x * np.roll(y, -1) - np.roll(x, -1) * y))
    scale = math.sqrt(math.pi / area)
    return x * scale, y * scale


def _chords(iris: Iris) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """Heights of the opening of radius 1, and where each line at that height enters and leaves it."""
    x, y = outline(iris)
    x_next, y_next = np.roll(x, -1), np.roll(y, -1)
    edges = np.linspace(y.min(), y.max(), 1025)
    heights = (edges[:-1] + edges[1:]) / 2
    low, high = np.zeros_like(heights), np.zeros_like(heights)
    for index, height in enumerate(heights):
        crosses = ((y <= height) & (y_next > height)) | ((y_next <= height) & (y > height))
        part = (height - y[crosses]) / (y_next[crosses] - y[crosses])
        places = x[crosses] + part * (x_next[crosses] - x[crosses])
        if places.size:
            low[index], high[index] = places.min(), places.max()
    return heights, low, high


@lru_cache(16)
def spans(largest: float, iris: Iris) -> Spans:
    """The tables for radii up to `largest` pixels."""
    heights, low, high = _chords(iris)
    count = math.ceil(largest / STEP) + 1
    first, half = np.zeros((2, count), np.int32), np.zeros((2, count), np.int32)
    rows: list[tuple[float, ...]] = []
    for side in range(2):
        sides = (heights, low, high) if side == 0 else (-heights[::-1], -high[::-1], -low[::-1])
        for index in range(count):
            radius = index * STEP
            tall = max(abs(sides[0][0]), abs(sides[0][-1]))
            half[side, index] = 0 if radius <= 0.5 else math.ceil(tall * radius - 0.5)
            first[side, index] = len(rows)
            rows += _rows(radius, int(half[side, index]), *sides)
    table = np.array(rows)
    return Spans(
        first,
        half,
        table[:, 0].astype(np.int32),
        table[:, 3].astype(np.int32),
        np.ascontiguousarray(table[:, [1, 2, 4, 5]].astype(np.float32)),
    )


def _rows(
    radius: float, half: int, heights: NDArray[np.float64], low: NDArray[np.float64], high: NDArray[np.float64]
) -> list[tuple[float, ...]]:
    parts = []
    for row in range(-half, half + 1):
        if half == 0:
            parts.append((-0.5, 0.5, 1.0))
            continue
        lines = (row - 0.5 + (np.arange(_SUB) + 0.5) / _SUB) / radius
        inside = lines[(lines > heights[0]) & (lines < heights[-1])]
        if inside.size:
            start, end = (float(np.interp(inside, heights, side).mean()) * radius for side in (low, high))
            parts.append((start, end, inside.size / _SUB))
        else:
            parts.append((0.0, 0.0, 0.0))
    area = sum((end - start) * weight for start, end, weight in parts)
    found: list[tuple[float, ...]] = []
    for start, end, weight in parts:
        value = weight / area
        left, right = math.floor(start + 0.5), math.floor(end + 0.5)
        into, out = start + 0.5 - left, end + 0.5 - right
        found.append((left, value * (1 - into), value * into, right, value * (1 - out), value * out))
    return found
