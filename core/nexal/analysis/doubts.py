"""Where a whole matte is unsure of itself: the places worth a look, the worst first."""

from __future__ import annotations

from typing import Any, get_args

import cv2
import numpy as np

from nexal.analysis.trying import tried
from nexal.engine import Cancellation, Engine, Plan
from nexal.engine.evaluate import scale_within
from nexal.errors import RecipeError
from nexal.kernels.bounds import bounded
from nexal.operations import find
from nexal.recipe import Step

LONGEST = 960
UNSURE = 0.2
"""Standard deviation of alpha from which a place is worth a look."""
APART, CELL = 0.012, 1 / 8
"""How far apart unsure pixels may be to be one place, and how long a place may be, in the longer side."""
MOST = 12
LEAST_AREA = 12
"""Pixels of what is looked at, below which a place is a speck."""


def doubtful(step: Step | None) -> Step | None:
    """The step, if it is one that can tell how unsure it is."""
    gives = find(step.op).Settings.model_fields.get("gives") if step else None
    return step if gives is not None and "doubt" in get_args(gives.annotation) else None


def doubts(engine: Engine, plan: Plan, item: str, cancellation: Cancellation | None = None) -> dict[str, Any]:
    """Places where a step's result is unsure, the worst first, and how much of the picture they cover.

    Answers `places`: `x`, `y`, `width`, `height` in full-resolution pixels, `doubt`, the mean standard deviation of
    alpha there; and `share`, the part of the picture that is unsure by more than 0.2. Places are ordered by doubt
    times area. Waits for slow results. Raises RecipeError for a step that knows no doubt.
    """
    step = doubtful(plan.recipe.step(item))
    if step is None:
        raise RecipeError("does not tell how unsure it is", where=f"step '{item}'", remedy="choose a whole matte")
    change = {item: {"set": {**step.settings, "gives": "doubt"}}}
    made = tried(plan, item, {"kind": "change", "change": change})
    assert made
    other, name = made
    feed = other.feed(name)
    window = feed.description.window
    scale = scale_within(window, LONGEST)
    region = window.scaled(scale)
    plane = engine.evaluate(feed, other, scale=scale, region=region, cancellation=cancellation).planes
    doubt = bounded(next(iter(plane.values())))
    unsure = doubt > UNSURE
    size = max(1, round(APART * max(doubt.shape)))
    element = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * size + 1, 2 * size + 1))
    joined = cv2.morphologyEx(unsure.astype(np.uint8), cv2.MORPH_CLOSE, element)
    # A long edge is several places: what is looked at has to be seen.
    cell = max(8, round(CELL * max(doubt.shape)))
    joined[cell::cell] = joined[:, cell::cell] = 0
    count, labels, facts, _ = cv2.connectedComponentsWithStats(joined, connectivity=8)
    total = np.bincount(labels.ravel(), np.where(unsure, doubt, 0).ravel(), count)
    many = np.bincount(labels.ravel(), unsure.ravel(), count)
    rows: list[dict[str, Any]] = []
    for label in np.argsort(-total[1:]) + 1:
        if many[label] < LEAST_AREA or len(rows) == MOST:
            continue
        x, y, width, height = (int(value) for value in facts[label, :4])
        place = {"x": region.x + x, "y": region.y + y, "width": width, "height": height}
        full = {key: int(value / float(scale)) for key, value in place.items()}
        rows.append(full | {"doubt": float(total[label] / many[label])})
    return {"places": rows, "share": float(unsure.mean())}
