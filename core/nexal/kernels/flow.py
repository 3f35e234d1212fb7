"""Movement between two pictures of a shot, pixel by pixel, whatever the light does between them.

A field W of picture b towards picture a says where its pixels come from: b(x) is about a(x + W(x)). Flow: Kroeger et
al., *Fast Optical Flow using Dense Inverse Search*, ECCV 2016, as OpenCV has it. Before it the light of the one is
brought to that of the other by a gain for each channel that changes slowly over the picture: lamps that flicker, and an
exposure that drifts, are no movement.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from nexal.kernels.bounds import bounded
from nexal.picture import Plane

CELLS = 4
"""Cells along each side of the picture, each with a gain of its own; bilinear between their centres."""
MOST_PIXELS = 600_000
"""Larger pictures are reduced to about this many before their movement is looked for."""
DARK = 1e-3
"""Light that is added before ratios and roots, so that noise of what is dark does not count."""
SMOOTH = 24
"""Pixels along the side of a cell in the reduced pictures from which its gain is measured."""
LEAST_GAIN, MOST_GAIN = 0.125, 8.0
GREY = (0.3, 0.5, 0.2)
"""Weights of the encoded channels; those of fewer channels are even."""

Light = NDArray[np.float32]
"""H x W x C linear light."""
Field = NDArray[np.float32]
"""H x W x 2: by how many pixels to the right and down what is seen here lies elsewhere in the other picture."""


@dataclass(frozen=True)
class Movement:
    """Where the pixels of a picture come from, and by how many pixels the way there and back misses its start."""

    field: Field
    missed: Plane


def warped(plane: Plane, field: Field) -> Plane:
    """A plane as a field moves it: its value at x + W(x), linear in between, its last pixel beyond the border."""
    y, x = np.indices(field.shape[:2], np.float32)
    moved = cv2.remap(plane, x + field[..., 0], y + field[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    return np.asarray(moved, np.float32)


def movement(before: Light, after: Light) -> Movement:
    """The field of `after` towards `before`, two pictures of one size.

    It is found twice: the gains that are measured through the first, coarser field hold for the second one. Pictures
    above `MOST_PIXELS` are reduced first; `missed` is in pixels of the full size.
    """
    height, width = after.shape[:2]
    fraction = min(1.0, float(np.sqrt(MOST_PIXELS / (height * width))))
    size = max(16, round(width * fraction)), max(16, round(height * fraction))
    earlier, later = (_small(bounded(light), size) for light in (before, after))
    even = np.zeros((*later.shape[:2], 2), np.float32)
    gained = earlier * gains(earlier, later, even)
    there = _flow(later, gained, finest=1)
    gained = earlier * gains(earlier, later, there)
    there, back = _flow(later, gained), _flow(gained, later)
    back_again = np.dstack([warped(np.ascontiguousarray(back[..., axis]), there) for axis in (0, 1)])
    scale = np.array([width / size[0], height / size[1]], np.float32)
    field, error = (
        _sized(np.asarray(each * scale, np.float32), (width, height)) for each in (there, there + back_again)
    )
    return Movement(field, np.asarray(np.linalg.norm(error, axis=-1), np.float32))


def gains(before: Light, after: Light, field: Field) -> Light:
    """H x W x C: what the light of `before` is multiplied by to be as bright as `after`, by a field towards it.

    A cell's gain is the median of the ratios in it, each channel by itself, of pictures reduced to 24 pixels a cell.
    """
    side = CELLS * SMOOTH
    channels = after.shape[2]
    cells = np.ones((CELLS, CELLS, channels), np.float32)
    for channel in range(channels):
        came = warped(np.ascontiguousarray(before[..., channel]), field)
        now = np.ascontiguousarray(after[..., channel])
        small = [cv2.resize(plane, (side, side), interpolation=cv2.INTER_AREA) for plane in (came, now)]
        ratio = (np.maximum(small[1], 0) + DARK) / (np.maximum(small[0], 0) + DARK)
        blocks = ratio.reshape(CELLS, SMOOTH, CELLS, SMOOTH)
        cells[..., channel] = np.median(blocks, axis=(1, 3))
    height, width = before.shape[:2]
    return _sized(np.clip(cells, LEAST_GAIN, MOST_GAIN), (width, height))


def _flow(here: Light, there: Light, finest: int = 0) -> Field:
    """To the pixel, or to half of its size with each `finest` more."""
    found = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)
    found.setFinestScale(finest)
    return np.asarray(found.calc(_grey(here), _grey(there), np.zeros((*here.shape[:2], 2), np.float32)), np.float32)


def _grey(light: Light) -> NDArray[np.uint8]:
    """Codes of light as it is seen: by its root noise becomes about the same everywhere."""
    seen = np.sqrt(np.clip(light, 0, 4) + np.float32(DARK))
    weights = np.array(GREY if light.shape[2] == 3 else [1 / light.shape[2]] * light.shape[2], np.float32)
    return np.clip(seen @ weights * 127, 0, 255).astype(np.uint8)


def _small(light: Light, size: tuple[int, int]) -> Light:
    same = light.shape[1::-1] == size
    small = light if same else np.asarray(cv2.resize(light, size, interpolation=cv2.INTER_AREA), np.float32)
    return small.reshape(size[1], size[0], -1)


def _sized(values: Light, size: tuple[int, int]) -> Light:
    """Values between the centres of a smaller grid, bilinearly."""
    same = values.shape[1::-1] == size
    large = values if same else np.asarray(cv2.resize(values, size, interpolation=cv2.INTER_LINEAR), np.float32)
    return large.reshape(size[1], size[0], -1)
