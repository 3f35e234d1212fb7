"""Marks on a picture: where the subject is, where its background."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from nexal.engine import Engine, Plan
from nexal.engine.plan import Feed
from nexal.picture import Plane, Window


@dataclass(frozen=True)
class Mark:
    """A round dab on the picture, in full-resolution pixels."""

    x: float
    y: float
    radius: float

    @property
    def window(self) -> Window:
        x, y = math.floor(self.x - self.radius), math.floor(self.y - self.radius)
        return Window(x, y, math.ceil(self.x + self.radius) - x + 1, math.ceil(self.y + self.radius) - y + 1)


def marked(engine: Engine, plan: Plan, feed: Feed, names: Sequence[str], marks: Iterable[Mark | Window]) -> Plane:
    """Scene values of the marked pixels, channels x samples; marks outside of the picture give none."""
    parts = []
    for mark in marks:
        window = (mark if isinstance(mark, Window) else mark.window).intersect(feed.description.window)
        if window.empty:
            continue
        planes = engine.evaluate(feed, plan, region=window, channels=names, keep_all=True, patient=False).planes
        stack = np.stack([planes[name] for name in names]).reshape(len(names), -1)
        if isinstance(mark, Mark):
            y, x = np.mgrid[window.y : window.bottom, window.x : window.right] + 0.5
            stack = stack[:, (np.hypot(x - mark.x, y - mark.y) <= mark.radius).ravel()]
        parts.append(stack)
    return np.concatenate(parts, axis=1) if parts else np.empty((len(names), 0), np.float32)
