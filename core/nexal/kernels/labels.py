"""Ids as colours: numbers that mean nothing by their size are told apart by hue and lightness."""

from __future__ import annotations

from functools import cache

import numpy as np
from numpy.typing import NDArray

from nexal.kernels.oklab import rgb_of
from nexal.kernels.pointmath import encode
from nexal.picture import Plane

TONES = 4096
NOTHING = 0.06
"""Grey of the id 0, which stands for no object."""


@cache
def _tones() -> NDArray[np.float32]:
    """Colours in order of nothing: hue and lightness each walk by an irrational part of their range. 3 x TONES."""
    place = np.arange(TONES)
    hue = 2 * np.pi * (place * 0.6180339887 % 1)
    lightness = 0.55 + 0.3 * (place * 0.7548776662 % 1)
    tones = np.stack(rgb_of(lightness, 0.13 * np.cos(hue), 0.13 * np.sin(hue)))
    return encode(np.clip(tones, 0, 1).astype(np.float32))


def id_colours(ids: Plane) -> NDArray[np.float32]:
    """Display values, 3 x H x W, of a plane of ids: the same id has the same colour anywhere, 0 is dark.

    Ids are hashed by the bits of their float32 (multiplication by 2^32 over the golden ratio, upper bits: D. Knuth,
    *The Art of Computer Programming*, vol. 3, 6.4), so of two ids one pair in 4096 shares its colour.
    """
    bits = np.ascontiguousarray(ids, np.float32).view(np.uint32)
    mixed = (bits ^ (bits >> np.uint32(15))) * np.uint32(2654435769)
    colours = _tones()[:, mixed >> np.uint32(20)]
    colours[:, ids == 0] = NOTHING
    return colours
