"""Steadiness: how a matte changes over time where its picture does not, and beyond what its picture's movement asks."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import asdict, dataclass
from typing import Any, Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from nexal.analysis.follow import as_seen, light_of
from nexal.engine import Cancellation, Engine, Plan
from nexal.engine.plan import as_kind
from nexal.formats.statistics import noise
from nexal.kernels.bounds import bounded, share
from nexal.kernels.flow import movement, warped
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
NEAR = 4.0
"""Pixels round an edge of the matte within which it may flicker."""
AGREES = 1.0
"""Pixels by which the movement there and back may miss its start where it is believed."""
TOGETHER = 6.0
"""Standard deviation in pixels of the surroundings over which a change is averaged: what the movement is off by is as
often too much as too little beside it, what flickers is the same all about."""
LEAST_JUDGED = 0.2
FLICKERS, LEAST_FLICKER, THROUGHOUT = 3.0, 0.004, 0.01
OF_ITS_OWN = 0.3
"""The part of a frame's change, pixel by pixel, that its surroundings have to have in common where it flickers."""

Verdict = Literal["steady", "flickers", "cannot_tell"]
Light = NDArray[np.float32]


@dataclass(frozen=True)
class Steadiness:
    """A frame: the mean of the matte, and what has changed since the frame before.

    `change` is the mean change where the picture stood still, None at the first frame and where nothing did; `still`
    the share of pixels that did. `flicker` is the mean change near the matte's edges beyond what moved, `common` the
    part of it that neighbours share, both None where the movement is not known; `judged` the share of the pixels near
    edges where it is.
    """

    frame: int
    coverage: float
    change: float | None = None
    still: float = 0.0
    flicker: float | None = None
    common: float | None = None
    judged: float = 0.0

    def row(self) -> dict[str, Any]:
        return asdict(self)


@dataclass(frozen=True)
class _Frame:
    """A frame's matte, and the light of the picture behind it (H x W x 1 or 3), where there is one of its size."""

    matte: Plane
    light: Light | None
    seen: Plane | None


def picture_behind(plan: Plan, address: str) -> str | None:
    """The first source with colour that a matte is made from, against which its steadiness is judged; the alpha of a
    source has that itself."""
    item, _, channel = address.partition(".")
    for name in items_behind(plan.recipe, [item]):
        if name in plan.recipe.sources and (name != item or channel) and plan.node(name).description.colour:
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
    neither is movement.

    flicker = mean of |d|, d = a_n - W a_(n-1), over the pixels within 4 px of an edge in either frame (0.01 < a < 0.99,
    or a step of more than a half; where there are none, all) where W, the movement of the picture between light that
    was levelled (`nexal.kernels.flow`), agrees there and back within 1 px. common = mean of |G d| there, G the mean
    of those pixels by a Gaussian of 6 px. Raises NexalError.
    """
    before: _Frame | None = None
    for frame in frames:
        current().check()
        plan = plans(frame)
        matte = _matte(engine, plan, address, cancellation)
        behind = picture_behind(plan, address)
        now = _Frame(matte, None, None)
        if behind is not None:
            planes, _, is_data = light_of(engine, plan, behind, None, cancellation)
            if planes[0].shape == matte.shape:
                now = _Frame(matte, np.dstack(planes), as_seen(planes, is_data))
        coverage = float(np.mean(matte, dtype=np.float64))
        if before is None or before.matte.shape != matte.shape:
            yield Steadiness(frame, coverage)
        else:
            (change, still), (flicker, common, judged) = _change(before, now), _flicker(before, now)
            yield Steadiness(frame, coverage, change, still, flicker, common, judged)
        before = now


def _matte(engine: Engine, plan: Plan, address: str, cancellation: Cancellation | None) -> Plane:
    feed = as_kind(plan.feed(address), "plane", address, "matte")
    display = feed.description.display
    region = Window(0, 0, display.width, display.height)
    plane = engine.evaluate(feed, plan, channels=[PLANE_NAME], region=region, cancellation=cancellation).planes
    return share(plane[PLANE_NAME])


def _change(before: _Frame, now: _Frame) -> tuple[float | None, float]:
    """The mean change where the picture stood still, and the share of pixels where it did."""
    moved = np.abs(now.matte - before.matte)
    if before.seen is None or now.seen is None:
        return float(moved.mean(dtype=np.float64)), 1.0
    difference = bounded(now.seen) - bounded(before.seen)
    spatial = np.sqrt(2) * max(noise(before.seen), noise(now.seen)) / 0.6745 / np.sqrt(20)
    temporal = float(np.median(np.abs(difference))) / 0.6745
    sigma = max(min(spatial, temporal), LEAST_NOISE)
    still = cv2.blur(difference * difference, (SOFT, SOFT)) < MOVED * sigma * sigma
    part = float(still.mean())
    return (float(moved[still].mean(dtype=np.float64)) if part > 0 else None), part


def _flicker(before: _Frame, now: _Frame) -> tuple[float | None, float | None, float]:
    """The mean change near edges beyond what moved, what of it neighbours share, and the share of pixels judged."""
    if before.light is None or now.light is None or before.light.shape != now.light.shape:
        return None, None, 0.0
    near = _near_edges(before.matte, now.matte)
    found = movement(before.light, now.light)
    judged = near & (found.missed < AGREES)
    part = float(judged.sum() / near.sum())
    if part == 0:
        return None, None, 0.0
    beyond = np.where(judged, now.matte - warped(before.matte, found.field), np.float32(0))
    weight = cv2.GaussianBlur(judged.astype(np.float32), (0, 0), TOGETHER)
    together = np.abs(cv2.GaussianBlur(beyond, (0, 0), TOGETHER)[judged]) / weight[judged]
    # Of what is 1 everywhere the mean is 1 but for rounding.
    common = min(1.0, float(together.mean(dtype=np.float64)))
    return float(np.abs(beyond[judged]).mean(dtype=np.float64)), common, part


def _near_edges(*mattes: Plane) -> NDArray[np.bool_]:
    """The pixels within 4 px of an edge of any of the mattes; where none has one, all of them."""
    edges = np.zeros(mattes[0].shape, bool)
    for matte in mattes:
        edges |= (matte > 0.01) & (matte < 0.99)
        edges |= cv2.morphologyEx(matte, cv2.MORPH_GRADIENT, np.ones((3, 3), np.uint8)) > 0.5
    if not edges.any():
        return ~edges
    return cv2.distanceTransform((~edges).astype(np.uint8), cv2.DIST_L2, cv2.DIST_MASK_PRECISE) <= NEAR


def verdicts(rows: Sequence[Steadiness]) -> list[Verdict | None]:
    """What is to be said of each frame of a whole range; None at the first one, which has none before it.

    A frame flickers whose neighbouring pixels change together (`common`) by more than 0.004 and more than three tenths
    of its `flicker`, and by more than three times the median of the range, or more than 0.01. Where less than a fifth
    of the pixels near edges could be judged it cannot be told. How well that does: docs/steadiness.md.
    """
    usual = float(np.median([row.common for row in rows if row.common is not None] or [0.0]))
    least = max(LEAST_FLICKER, min(FLICKERS * usual, THROUGHOUT))

    def verdict(row: Steadiness) -> Verdict:
        if row.common is None or row.flicker is None or row.judged < LEAST_JUDGED:
            return "cannot_tell"
        return "flickers" if row.common > max(least, OF_ITS_OWN * row.flicker) else "steady"

    return [verdict(row) if at else None for at, row in enumerate(rows)]


def summary(rows: Sequence[Steadiness]) -> dict[str, Any]:
    """All frames with their verdicts, what is to be said of the range as a whole, and its mean change.

    The whole is steady only where every frame is. `worst` are the five frames at most whose `change` is more than twice
    the median.
    """
    changes = [row.change for row in rows if row.change is not None]
    usual = float(np.median(changes)) if changes else 0.0
    standing_out = [row for row in rows if row.change is not None and row.change > max(STANDS_OUT * usual, 1e-4)]
    worst = sorted(standing_out, key=lambda row: -(row.change or 0))[:WORST]
    told = verdicts(rows)
    verdict = next((each for each in ("flickers", "cannot_tell") if each in told), "steady")
    return {
        "frames": [row.row() | {"verdict": each} for row, each in zip(rows, told, strict=True)],
        "verdict": verdict if len(rows) > 1 else "cannot_tell",
        "worst": [row.frame for row in worst],
        "mean_change": float(np.mean(changes)) if changes else 0.0,
    }
