"""The scene from the side or from above: how much of it is seen at each depth and height, and what lies at a point."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from fractions import Fraction
from typing import Literal

import cv2
import numba
import numpy as np
from numpy.typing import NDArray

from nexal.engine import Engine, Plan
from nexal.engine.evaluate import SCALES
from nexal.engine.plan import Feed
from nexal.hashed_ids import id_layers, number_of, ranked
from nexal.kernels.nowhere import is_nothing, is_nowhere
from nexal.kernels.picking import number_cover, ranked_cover
from nexal.operations.geometry import axes_of
from nexal.picture import Plane, Window

MOST_PIXELS = 700_000
"""Of the smaller picture that a plot is made from."""
Side = Literal["side", "above"]


@dataclass(frozen=True)
class Elevation:
    """Density (rows x columns, 0 to 255, of the logarithm of counts) of what is seen; columns go from `low` to `high`.

    Rows are the picture's own, from its top, or from its left where it is seen from above. `all_low`, `all_high` are
    the ends of all there is (percentiles 0.1 and 99.9).
    """

    density: NDArray[np.uint8]
    low: float
    high: float
    all_low: float
    all_high: float


@numba.njit(cache=True, nogil=True)
def _count(depth: Plane, low: float, factor: float, inverse: bool, above: bool, counts: NDArray[np.float64]) -> None:
    height, width = depth.shape
    rows, columns = counts.shape
    for y in range(height):
        for x in range(width):
            value = depth[y, x]
            if not np.isfinite(value) or (inverse and value <= 0):
                continue
            place = ((1 / value if inverse else value) - low) * factor
            if 0 <= place < columns:
                row = x * rows // width if above else y * rows // height
                counts[row, int(place)] += 1


def elevation(
    engine: Engine,
    plan: Plan,
    feed: Feed,
    *,
    columns: int,
    rows: int,
    side: Side = "side",
    inverse: bool = False,
    span: tuple[float, float] | None = None,
) -> Elevation:
    """The plot of a depth plane: `columns` from near to far, even in depth or (`inverse`) in 1 / depth.

    `span`: the depths at its ends, else those of all there is. Small pictures and proxies are enough for it. Raises
    NexalError.
    """
    depth = _shrunk(engine, plan, feed)
    there = np.isfinite(depth) & ((depth > 0) | (not inverse))
    values = depth[there]
    if not values.size:
        return Elevation(np.zeros((rows, columns), np.uint8), *(span or (0.0, 1.0)), 0.0, 1.0)
    all_low, all_high = (float(value) for value in np.percentile(values, (0.1, 99.9)))
    if all_high <= all_low:
        all_low, all_high = all_low - 0.5, all_high + 0.5
    low, high = span or (all_low, all_high)
    start, end = (1 / max(low, 1e-9), 1 / max(high, 1e-9)) if inverse else (low, high)
    counts = np.zeros((rows, columns))
    if start != end:
        _count(depth, start, columns / (end - start), inverse, side == "above", counts)
    most = np.log1p(counts.max())
    density = np.log1p(counts) * (255 / most) if most > 0 else counts
    return Elevation(np.round(density).astype(np.uint8), float(low), float(high), all_low, all_high)


def _small(window: Window) -> Fraction:
    """The scale at which a window is small enough to be looked at while the pointer moves."""
    return next((each for each in SCALES if window.scaled(each).area <= MOST_PIXELS), SCALES[-1])


def _shrunk(engine: Engine, plan: Plan, feed: Feed) -> Plane:
    window = feed.description.window
    scale = _small(window)
    name = feed.description.channels[0]
    picture = engine.evaluate(feed, plan, scale=scale, region=window.scaled(scale), channels=[name], patient=False)
    plane = np.asarray(picture.planes[name], np.float32)
    return np.where(is_nothing(plane), np.float32(np.inf), plane)


REACH, GAP, LEAST = 2, 0.03, 0.2
"""Pixels around a click, the gap in log depth between two surfaces, and the share that the clicked one needs."""


@dataclass(frozen=True)
class Located:
    """What lies at a point: its depth, its place in the world, and its ids (number or hex digits, name, coverage)."""

    depth: float | None = None
    position: tuple[float, float, float] | None = None
    ids: list[tuple[str, str, float]] = field(default_factory=list)


def located(engine: Engine, plan: Plan, feeds: Mapping[str, Feed], x: float, y: float) -> Located:
    """What lies at a point (full-resolution pixels), by feeds called `depth`, `position` and `ids`.

    At an edge the surface that the clicked pixel lies on is meant where a fifth of the 25 pixels around belong to it,
    else the one that most do; its median is answered. Raises NexalError.
    """
    around = Window(int(np.floor(x)) - REACH, int(np.floor(y)) - REACH, 2 * REACH + 1, 2 * REACH + 1)
    chosen = np.ones((around.height, around.width), bool)
    depth = None
    if "depth" in feeds:
        plane = np.asarray(_read(engine, plan, feeds["depth"], around)[0], np.float32)
        chosen, depth = _surface(plane)
    position = None
    if "position" in feeds:
        names = axes_of(feeds["position"].description, "position")
        planes = [np.asarray(plane, np.float32) for plane in _read(engine, plan, feeds["position"], around, names)]
        own = chosen & ~is_nowhere(planes)
        if own.any():
            px, py, pz = (float(np.median(plane[own])) for plane in planes)
            position = (px, py, pz)
    ids = _ids(engine, plan, feeds["ids"], Window(around.x + REACH, around.y + REACH, 1, 1)) if "ids" in feeds else []
    return Located(depth, position, ids)


def _read(
    engine: Engine, plan: Plan, feed: Feed, region: Window, names: tuple[str, ...] | None = None
) -> list[NDArray[np.floating]]:
    channels = names or feed.description.channels[:1]
    picture = engine.evaluate(feed, plan, scale=Fraction(1), region=region, channels=list(channels), patient=False)
    return [picture.planes[name] for name in channels]


def _surface(depth: Plane) -> tuple[NDArray[np.bool_], float | None]:
    there = ~is_nothing(depth) & (depth > 0)
    middle = depth[REACH, REACH]
    if not there.any():
        return there, None
    values = np.sort(depth[there].astype(float))
    cuts = np.flatnonzero(np.diff(np.log(values)) > GAP) + 1
    groups = np.split(values, cuts)
    own = next((group for group in groups if there[REACH, REACH] and group[0] <= middle <= group[-1]), None)
    if own is None or own.size < LEAST * depth.size:
        own = max(groups, key=len)
    chosen = there & (depth >= own[0] - 1e-6) & (depth <= own[-1] + 1e-6)
    return chosen, float(np.median(own))


Outline = list[list[tuple[float, float]]]
MOST_OUTLINES, FINE = 60, 0.75
"""Parts of a thing whose outlines are given, and how near a line follows its edge, in pixels of the plane looked at."""


def outline_of(engine: Engine, plan: Plan, feed: Feed, picked: str) -> Outline:
    """Where the coverage of an id (as `located` gives it) passes a half, as closed lines in full-resolution pixels.

    From a picture small enough for a pointer to be followed. Raises NexalError.
    """
    description = feed.description
    window = description.window
    scale = _small(window)
    region = window.scaled(scale)
    layer = next((each for each in id_layers(description.metadata).values()), None)
    pairs = ranked(layer.name, description.channels) if layer else []
    names = [name for pair in pairs for name in pair] or list(description.channels[:1])
    planes = engine.evaluate(feed, plan, scale=scale, region=region, channels=names, patient=False).planes
    if pairs:
        wanted = np.array([number_of(int(picked, 16))])
        cover = ranked_cover([(planes[number], planes[share]) for number, share in pairs], wanted)
    else:
        cover = number_cover(planes[names[0]], np.array([float(picked)]))
    lines, _ = cv2.findContours((cover >= 0.5).astype(np.uint8), cv2.RETR_CCOMP, cv2.CHAIN_APPROX_NONE)
    longest = sorted(lines, key=len, reverse=True)[:MOST_OUTLINES]
    found: Outline = []
    for line in longest:
        points = cv2.approxPolyDP(line, FINE, True)[:, 0].astype(float)
        at = (points + (region.x + 0.5, region.y + 0.5)) / float(scale)
        found.append([(float(x), float(y)) for x, y in at])
    return found


def _ids(engine: Engine, plan: Plan, feed: Feed, at: Window) -> list[tuple[str, str, float]]:
    description = feed.description
    known = id_layers(description.metadata)
    found: list[tuple[str, str, float]] = []
    for layer in known.values():
        names = {np.float32(number_of(bits)): name for name, bits in layer.names.items()}
        for number, share in ranked(layer.name, description.channels):
            value, cover = (plane[0, 0] for plane in _read(engine, plan, feed, at, (number, share)))
            if cover > 0:
                bits = f"{int(np.float32(value).view(np.uint32)):08x}"
                found.append((bits, names.get(np.float32(value), ""), float(cover)))
        if found:
            return found
    plain = [name for name in description.channels if description.trait(name).is_label or description.is_plane]
    if plain and not known:
        value = _read(engine, plan, feed, at, (plain[0],))[0][0, 0]
        if np.isfinite(value) and value != 0:
            # With all its digits: it is picked by what stands here.
            found.append((str(int(value)) if value == int(value) else repr(float(value)), "", 1.0))
    return found
