"""Planes as the browser is sent them: half floats of what there is, or bytes of what is seen of it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nexal.analysis.view import ViewPlanes
from nexal.kernels.bounds import share
from nexal.kernels.halves import write_halves
from nexal.kernels.lookup import looked_up
from nexal.kernels.pointmath import encode
from nexal.kernels.threads import spread
from nexal.memory import empty
from nexal.picture import Alpha, Picture, Plane, is_alpha

WORTH_THREADS = 1 << 20
"""Samples from which on it takes less long to hand them to other threads than to write them here."""

UNSEEN = 1e-4
"""Light below nothing, and alpha beyond 0 and 1, that does not show over a backdrop."""

Ends = tuple[float, float]
"""The values that black and white stand for."""


def half_planes(picture: Picture) -> memoryview:
    """The planes of a picture as half floats, one after the other, row 0 first: what the browser paints."""
    result = empty((len(picture.planes), picture.region.height, picture.region.width), np.uint16)

    def write(index: int, plane: Plane) -> None:
        write_halves(plane, result[index])

    return _written(picture, result, write)


def _written(picture: Picture, result: NDArray[Any], write: Callable[[int, Plane], None]) -> memoryview:
    """The bytes of all planes of a result, once each of a picture's is written into its own."""

    def one(pair: tuple[int, Plane]) -> None:
        write(pair[0], pair[1].astype(np.float32, copy=False))

    each = spread if result.size >= WORTH_THREADS else map
    list(each(one, enumerate(picture.planes.values())))
    return result.data.cast("B")


def ends_of(seen: ViewPlanes, alpha: Alpha, exposure: float) -> list[Ends | None] | None:
    """What codes of 8 bit tell of each plane so that a picture looks as it does, at an exposure in stops.

    Where there are two numbers, codes go evenly from one to the other; where there are none, along the display curve
    up to what is white at that exposure. None at all where codes would not do: what is brighter than white is seen
    through an alpha that it is not premultiplied with; light below nothing, what is no number, and what covers less
    than nothing or more than all look otherwise over a backdrop.
    """
    names = list(seen.picture.planes)
    covers = [len(names) > 1 and is_alpha(name) for name in names]
    if any(covers) and not seen.finished:
        straight = [limits is not None for cover, limits in zip(covers, seen.ranges, strict=True) if not cover]
        if alpha is Alpha.STRAIGHT or any(straight) or not _covers_plainly(seen.picture, exposure):
            return None
    ends: list[Ends | None] = []
    for cover, limits in zip(covers, seen.ranges, strict=True):
        if cover or seen.finished:
            ends.append((0.0, 1.0))
        elif limits is None:
            ends.append(None)
        else:
            low, high = limits
            ends.append((low, low + (high - low) * 2.0**-exposure))
    return ends


def _covers_plainly(picture: Picture, exposure: float) -> bool:
    """Whether premultiplied light is nowhere below nothing, alpha nowhere beyond 0 and 1, and all of them numbers."""
    for name, plane in picture.planes.items():
        low = -UNSEEN if is_alpha(name) else -UNSEEN * 2.0**-exposure
        if not plane.min(initial=0) >= low or (is_alpha(name) and not plane.max(initial=1) <= 1 + UNSEEN):
            return False
    return True


def code_planes(picture: Picture, ends: Sequence[Ends | None], exposure: float) -> memoryview:
    """The planes of a picture as bytes, one after the other, row 0 first: round(255 v), v in 0 to 1 as `ends_of` tells.

    Values are taken as half floats, as `half_planes` has them; what is no number is 0.
    """
    result = empty((len(picture.planes), picture.region.height, picture.region.width), np.uint8)

    def write(index: int, plane: Plane) -> None:
        halves = empty(plane.shape, np.uint16)
        write_halves(plane, halves)
        looked_up(_code_table(ends[index], exposure), halves, result[index])

    return _written(picture, result, write)


@lru_cache(maxsize=64)
def _code_table(ends: Ends | None, exposure: float) -> NDArray[np.uint8]:
    """The code of every half float, by its bits."""
    values = np.arange(1 << 16, dtype=np.uint16).view(np.float16).astype(np.float32)
    with np.errstate(over="ignore", invalid="ignore", divide="ignore"):
        if ends is None:
            seen = np.asarray(encode(np.clip(values * np.float32(2.0**exposure), 0, 1)))
        else:
            seen = (values - np.float32(ends[0])) / np.float32(ends[1] - ends[0])
        return np.rint(255 * share(seen)).astype(np.uint8)
