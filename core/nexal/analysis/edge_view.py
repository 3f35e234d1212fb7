"""What an edge looks like: colour along a line across it, and where its soft band is too dark or too bright."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from nexal.colour import LUMINANCE
from nexal.engine import Cancellation, Engine, Plan
from nexal.engine.plan import Feed
from nexal.errors import RecipeError
from nexal.kernels.bounds import bounded, covering
from nexal.kernels.pointmath import decode, encode, uncovered
from nexal.operations.passes import pass_channels
from nexal.picture import ALPHA_NAME, PLANE_NAME, Alpha, Picture, Plane, Window

SAMPLES = 160
SOFT = (0.01, 0.99)
FULL = 0.12
"""Deviation of display values at which the fringe's colour is full."""
BRIGHT, DARK = np.array([1.0, 0.42, 0.18]), np.array([0.2, 0.5, 1.0])


def _planes(
    engine: Engine,
    plan: Plan,
    feed: Feed,
    region: Window,
    scale: Fraction = Fraction(1),
    cancellation: Cancellation | None = None,
) -> tuple[list[Plane], Plane]:
    """R, G, B as stored over a region, and alpha (1 where there is none). Raises RecipeError without colour."""
    description = feed.description
    colours = list(pass_channels(description).values())[:3]
    if not colours:
        raise RecipeError("holds no colour", where=feed.node.item, remedy="choose a picture")
    names = [*colours, *([ALPHA_NAME] if description.has_alpha else [])]
    picture = engine.evaluate(
        feed,
        plan,
        scale=scale,
        region=region,
        channels=names,
        looked_at=True,
        patient=False,
        cancellation=cancellation,
    )
    planes = [bounded(picture.planes[name]) for name in colours]
    planes = planes if len(planes) == 3 else [planes[0]] * 3
    if not description.has_alpha:
        return planes, np.ones_like(planes[0])
    return planes, covering(picture.planes[ALPHA_NAME])


def profile(
    engine: Engine,
    plan: Plan,
    feed: Feed,
    start: tuple[float, float],
    end: tuple[float, float],
    backdrop: Sequence[float] | None = None,
) -> dict[str, Any]:
    """Values along a line: `r`, `g`, `b` display-encoded, of the comp over a scene-linear backdrop where one is given,
    else premultiplied; `a`; `step`, pixels between two samples.

    Positions are continuous, in full-resolution pixels; values between pixels are interpolated, and outside of the
    picture there is nothing. Raises RecipeError for a line of no length or outside of the picture.
    """
    display = feed.description.display
    ends = np.array([start, end], np.float64)
    length = float(np.hypot(*(ends[1] - ends[0])))
    if length < 1:
        raise RecipeError("has no length", where="line", remedy="draw it across an edge")
    low, high = np.floor(ends.min(axis=0)).astype(int) - 2, np.ceil(ends.max(axis=0)).astype(int) + 2
    region = Window(int(low[0]), int(low[1]), int(high[0] - low[0]), int(high[1] - low[1])).intersect(display)
    if region.empty:
        raise RecipeError("lies outside of the picture", where="line", remedy="draw it across an edge")
    planes, alpha = _planes(engine, plan, feed, region)
    if feed.description.has_alpha and feed.description.alpha is Alpha.STRAIGHT:
        planes = [plane * alpha for plane in planes]
    places = ends[0] + np.linspace(0, 1, SAMPLES)[:, None] * (ends[1] - ends[0])
    x = (places[:, 0] - 0.5 - region.x).astype(np.float32)[None]
    y = (places[:, 1] - 0.5 - region.y).astype(np.float32)[None]

    def along(plane: Plane) -> NDArray[np.float32]:
        sampled = cv2.remap(np.ascontiguousarray(plane), x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT)
        return sampled.ravel()

    cover = along(alpha)
    behind = backdrop if backdrop is not None else (0.0, 0.0, 0.0)
    shown = [along(plane) + (1 - cover) * np.float32(part) for plane, part in zip(planes, behind, strict=True)]
    row = {name: [float(v) for v in encode(values)] for name, values in zip("rgb", shown, strict=True)}
    return row | {"a": [float(v) for v in cover], "step": length / (SAMPLES - 1)}


@dataclass(frozen=True)
class DiagnosedState:
    """What a picture was diagnosed to be: `verdict`, `domain`, and `backing` in the values of the domain."""

    verdict: str
    domain: str | None
    backing: tuple[float, float, float]


def _true(planes: list[Plane], alpha: Plane, told: DiagnosedState) -> list[Plane]:
    """Premultiplied colour as it should be, from stored colour and what that truly is."""
    if told.verdict == "straight":
        return [plane * alpha for plane in planes]
    made = []
    for plane, backing in zip(planes, told.backing, strict=True):
        encoded = told.domain == "display"
        value = encode(plane) if encoded else plane
        straight = np.maximum(uncovered(value, alpha, np.float32(backing)), 0)
        made.append((decode(straight) if encoded else straight) * alpha)
    return made


def fringe(
    engine: Engine,
    plan: Plan,
    feed: Feed,
    scale: Fraction,
    region: Window,
    told: DiagnosedState,
    cancellation: Cancellation | None = None,
) -> Picture:
    """Where a picture's soft band is brighter or darker in a comp than its straight colour predicts.

    Straight colour follows from the diagnosis. What the picture, taken for what it claims to be, adds to a comp beyond
    straight colour times alpha is warm, what it lacks is cold, full at 0.12 of display values; the rest is grey. The
    difference does not depend on what lies behind. Display values R, G, B. Raises RecipeError without alpha.
    """
    if not feed.description.has_alpha:
        raise RecipeError("has no alpha", where=feed.node.item, remedy="choose a picture with soft edges")
    stored, alpha = _planes(engine, plan, feed, region, scale, cancellation)
    straight = feed.description.alpha is Alpha.STRAIGHT
    claimed = [plane * alpha for plane in stored] if straight else stored
    light, wanted = (_luminance(planes) for planes in (claimed, _true(stored, alpha, told)))
    soft = (alpha > SOFT[0]) & (alpha < SOFT[1])
    gap = np.where(soft, encode(light) - encode(wanted), 0)
    strength = np.clip(np.abs(gap) / FULL, 0, 1)
    grey = 0.10 + 0.22 * np.clip(encode(light), 0, 1)
    shown = {
        name: (grey + (np.where(gap > 0, BRIGHT[index], DARK[index]) - grey) * strength).astype(np.float32)
        for index, name in enumerate("RGB")
    }
    return Picture(feed.description, region, scale, shown)


def evidence(
    engine: Engine,
    plan: Plan,
    feed: Feed,
    kind: str,
    scale: Fraction,
    region: Window,
    alpha: Feed | None = None,
) -> Picture:
    """What speaks for a diagnosis, as display values R, G, B over a region.

    `brighter`: soft pixels whose encoded colour exceeds their alpha in white, other soft ones in grey. `under`: the
    colour that pixels with alpha 0 hold, everything else black. `alpha` is one that came apart from the picture.
    Raises RecipeError without alpha.
    """
    if alpha is None and not feed.description.has_alpha:
        raise RecipeError("has no alpha", where=feed.node.item, remedy="choose a picture with soft edges")
    stored, cover = _planes(engine, plan, feed, region, scale)
    if alpha is not None:
        apart = engine.evaluate(alpha, plan, scale=scale, region=region, looked_at=True, patient=False)
        cover = covering(apart.planes[PLANE_NAME])
    if kind == "under":
        shown = {name: np.where(cover == 0, encode(plane), 0) for name, plane in zip("RGB", stored, strict=True)}
    else:
        soft = (cover > SOFT[0]) & (cover < SOFT[1])
        brighter = soft & (encode(np.maximum.reduce(stored)) > cover + 0.01)
        grey = np.where(brighter, 1.0, np.where(soft, 0.28, 0.05))
        shown = dict.fromkeys("RGB", grey)
    planes = {name: np.ascontiguousarray(plane, np.float32) for name, plane in shown.items()}
    return Picture(feed.description, region, scale, planes)


def _luminance(planes: list[Plane]) -> Plane:
    r, g, b = (np.float32(w) * plane for w, plane in zip(LUMINANCE.values(), planes, strict=True))
    return r + g + b
