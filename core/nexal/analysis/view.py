"""What the stage shows: planes, ids as colours, exact values under the pointer, and histograms."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Any

import numpy as np

from nexal.analysis.marks import Mark, marked
from nexal.engine import Cancellation, Engine, Plan
from nexal.engine.evaluate import scale_within
from nexal.engine.plan import Feed
from nexal.errors import Cancelled, NexalError, Pending, SettingError
from nexal.formats.statistics import skyline
from nexal.kernels.labels import id_colours
from nexal.kernels.pointmath import encode
from nexal.picture import Picture, Plane, Window

ROUGH_SIDE = 320
"""Longer side of the proxy, about, that a slow step is first computed of: a whole matte takes some tenths of a second
then."""


@dataclass(frozen=True)
class ViewPlanes:
    """Planes to be looked at. `ranges` are the values that stand for black and white, of data planes only.

    `finished` planes are R, G and B of display values, to be shown as they are. `pending` is what they stand in for
    roughly, at a smaller scale than was asked for.
    """

    picture: Picture
    ranges: list[tuple[float, float] | None]
    finished: bool = False
    pending: Pending | None = None


def _range(feed: Feed, channel: str) -> tuple[float, float] | None:
    if channel not in feed.description.data:
        return None
    return feed.description.trait(channel).span() or (0.0, 1.0)


def shown(
    engine: Engine,
    plan: Plan,
    feed: Feed,
    channels: Sequence[str],
    scale: Fraction,
    region: Window,
    cancellation: Cancellation | None = None,
    *,
    rough: bool = False,
) -> ViewPlanes:
    """Planes of an item over a region, to be looked at; a lone channel of ids as colours.

    Where a slow step is not computed yet and `rough` is asked for, what it makes of a small proxy stands in for it.
    Raises Pending where there is nothing to be seen yet, and NexalError.
    """

    def made(scale: Fraction, region: Window, rough: bool = False) -> Picture:
        return engine.evaluate(
            feed,
            plan,
            scale=scale,
            region=region,
            channels=channels,
            looked_at=True,
            patient=False,
            rough=rough,
            cancellation=cancellation,
        )

    pending = None
    try:
        picture = made(scale, region)
    except Pending as waits:
        if not rough:
            raise
        pending = waits
        small = min(scale, scale_within(feed.description.display, ROUGH_SIDE))
        try:
            picture = made(small, region.scaled(small / scale), rough=True)
        except Cancelled:
            raise
        except NexalError:
            # What is wrong is told by the true computation, of the whole picture.
            raise pending from None
    if len(channels) == 1 and feed.description.trait(channels[0]).is_label:
        colours = id_colours(picture.planes[channels[0]])
        return ViewPlanes(
            replace(picture, planes=dict(zip("RGB", colours, strict=True))), [None] * 3, finished=True, pending=pending
        )
    return ViewPlanes(picture, [_range(feed, name) for name in channels], pending=pending)


def probe(engine: Engine, plan: Plan, feed: Feed, x: int, y: int, size: int = 1) -> dict[str, Any]:
    """Values of every channel of an item averaged over a square round a pixel, in full precision.

    `inside` tells whether the pixel lies in the data window. Each channel has its `value` and, where it is colour,
    its display-`encoded` value; non-finite values are left out of an average and counted. Ids have no average: theirs
    is the one under the pixel, with all its digits.
    """
    description = feed.description
    square = Window(x - size // 2, y - size // 2, size, size)
    inside = square.intersect(description.window)
    row: dict[str, Any] = {"inside": not inside.empty, "alpha": description.alpha.value, "channels": []}
    if inside.empty:
        return row
    picture = engine.evaluate(feed, plan, region=inside, looked_at=True, patient=False)
    for name, plane in picture.planes.items():
        finite = plane[np.isfinite(plane)]
        value = float(finite.mean(dtype=np.float64)) if finite.size else None
        if description.trait(name).is_label:
            value = _sample(plane, square.x + size // 2 - inside.x, square.y + size // 2 - inside.y)
        colour = name not in description.data
        row["channels"].append(
            {
                "name": name,
                "value": value,
                "encoded": float(encode(np.float32(value))) if colour and value is not None else value,
                "colour": colour,
                "non_finite": int(plane.size - finite.size),
            }
        )
    return row


def _sample(plane: Plane, x: int, y: int) -> float | None:
    """The value of the pixel itself, None outside and where it is no number."""
    if not (0 <= y < plane.shape[0] and 0 <= x < plane.shape[1]) or not np.isfinite(plane[y, x]):
        return None
    return float(plane[y, x])


def histogram(
    engine: Engine,
    plan: Plan,
    feed: Feed,
    domain: str,
    bins: int = 128,
    subject: Sequence[Mark] = (),
    background: Sequence[Mark] = (),
    low: float = 0.0,
    high: float = 1.0,
) -> dict[str, Any]:
    """Histogram of a plane (or of all colour of a picture) from `low` to `high` in a domain, at a proxy scale.

    `min` and `max` are the ends of its finite values as they are, None where there is none. `subject` and `background`
    are the counts of the marked pixels alone, in full resolution, and None where there are no marks.
    """
    if domain not in ("display", "scene"):
        raise SettingError(f"'{domain}' is not a domain", where="domain", remedy="use display or scene")
    if not low < high:
        raise SettingError("low is not below high", where="low", remedy="give a range")
    description = feed.description
    names = description.channels if description.is_plane else description.colour or description.channels
    scale = scale_within(description.display, 1024)
    picture = engine.evaluate(feed, plan, scale=scale, channels=names, looked_at=True, patient=False)
    counts = np.zeros(bins, np.int64)
    below = above = total = 0
    least, most = np.inf, -np.inf
    for name, plane in picture.planes.items():
        values = encode(plane) if domain == "display" and name not in description.data else plane
        counts += np.asarray(skyline(values, low, high, bins))
        below += int(np.count_nonzero(values < low))
        above += int(np.count_nonzero(values > high))
        total += values.size
        finite = plane[np.isfinite(plane)]
        least, most = min(least, finite.min(initial=np.inf)), max(most, finite.max(initial=-np.inf))
    ends = (float(least), float(most)) if least <= most else (None, None)
    row: dict[str, Any] = {"min": ends[0], "max": ends[1]}
    for side, marks in (("subject", subject), ("background", background)):
        row[side] = None
        if marks:
            values = marked(engine, plan, feed, names, marks)
            for index, name in enumerate(names):
                if domain == "display" and name not in description.data:
                    values[index] = encode(values[index])
            row[side] = [int(count) for count in skyline(values, low, high, bins)]
    return row | {"low": low, "high": high, "counts": counts.tolist(), "below": below, "above": above, "total": total}
