"""Steadiness: how a matte changes over time where its picture does not."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np

from nexal.analysis.follow import Seen, seen_through
from nexal.engine import Cancellation, Engine, Plan
from nexal.engine.plan import as_kind
from nexal.formats.statistics import noise
from nexal.kernels.bounds import bounded, share
from nexal.picture import PLANE_NAME, Plane, Window
from nexal.session import items_behind
from nexal.work import current

SOFT = 5
"""Side of the square over which a picture's change is averaged before it is compared with its noise."""
MOVED = 2.0
"""How many times its noise's variance a picture's squared change has to be to count as movement."""
LEAST_NOISE = 0.25 / 255
WORST = 5
STANDS_OUT = 2.0
"""How many times the median a frame's change has to be to be named among the worst."""


@dataclass(frozen=True)
class Steadiness:
    """A frame: the mean of the matte, and its mean change since the frame before where the picture stood still.

    `change` is None at the first frame, and where nothing stood still; `still` is the share of pixels that did.
    """

    frame: int
    coverage: float
    change: float | None
    still: float

    def row(self) -> dict[str, Any]:
        return {"frame": self.frame, "coverage": self.coverage, "change": self.change, "still": self.still}


def picture_behind(plan: Plan, item: str) -> str | None:
    """The first source with colour that an item is made from, against which its steadiness is judged."""
    for name in items_behind(plan.recipe, [item]):
        if name in plan.recipe.sources and name != item and plan.node(name).description.colour:
            return name
    return None


def steady(
    engine: Engine,
    plans: Callable[[int], Plan],
    address: str,
    frames: Iterable[int],
    cancellation: Cancellation | None = None,
) -> Iterator[Steadiness]:
    """Judge a matte over frames in their order.

    change = mean of |a_n - a_(n-1)| over the pixels where the square of the picture's own change, averaged over 5 x 5
    pixels, is below twice the variance that its noise makes. That is estimated by the Laplacian (deviation sqrt(2) MAD
    / 0.6745 / sqrt(20)) and by the change itself (MAD / 0.6745); the smaller one holds: texture is no noise, and
    neither is movement. Raises NexalError.
    """
    seen: Seen | None = None
    before: tuple[Plane, Plane | None] | None = None
    for frame in frames:
        current().check()
        plan = plans(frame)
        matte = _matte(engine, plan, address, cancellation)
        behind = picture_behind(plan, address.partition(".")[0])
        picture = None
        if behind is not None:
            seen = seen or seen_through(engine, plans, behind, cancellation)
            picture, _ = seen(frame, None)
        change, still = (None, 0.0) if before is None else _change(*before, matte, picture)
        before = (matte, picture)
        yield Steadiness(frame, float(np.mean(matte, dtype=np.float64)), change, still)


def _matte(engine: Engine, plan: Plan, address: str, cancellation: Cancellation | None) -> Plane:
    feed = as_kind(plan.feed(address), "plane", address, "matte")
    display = feed.description.display
    region = Window(0, 0, display.width, display.height)
    plane = engine.evaluate(feed, plan, channels=[PLANE_NAME], region=region, cancellation=cancellation).planes
    return share(plane[PLANE_NAME])


def _change(
    matte: Plane, picture: Plane | None, next_matte: Plane, next_picture: Plane | None
) -> tuple[float | None, float]:
    if matte.shape != next_matte.shape:
        return None, 0.0
    moved = np.abs(next_matte - matte)
    if picture is None or next_picture is None or not picture.shape == next_picture.shape == matte.shape:
        return float(moved.mean(dtype=np.float64)), 1.0
    difference = bounded(next_picture) - bounded(picture)
    spatial = np.sqrt(2) * max(noise(picture), noise(next_picture)) / 0.6745 / np.sqrt(20)
    temporal = float(np.median(np.abs(difference))) / 0.6745
    sigma = max(min(spatial, temporal), LEAST_NOISE)
    still = cv2.blur(difference * difference, (SOFT, SOFT)) < MOVED * sigma * sigma
    share = float(still.mean())
    return (float(moved[still].mean(dtype=np.float64)) if share > 0 else None), share


def summary(rows: Sequence[Steadiness]) -> dict[str, Any]:
    """All frames, the worst of them, and the mean change."""
    changes = [row.change for row in rows if row.change is not None]
    usual = float(np.median(changes)) if changes else 0.0
    standing_out = [row for row in rows if row.change is not None and row.change > max(STANDS_OUT * usual, 1e-4)]
    worst = sorted(standing_out, key=lambda row: -(row.change or 0))[:WORST]
    return {
        "frames": [row.row() for row in rows],
        "worst": [row.frame for row in worst],
        "mean_change": float(np.mean(changes)) if changes else 0.0,
    }
