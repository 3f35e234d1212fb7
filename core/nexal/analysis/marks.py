"""Marks on a picture: where the subject is, where its background."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import reduce

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


MOST_SAMPLES = 2_000_000
"""Samples of all marks together; of large ones every so many is taken, evenly."""


def marked(engine: Engine, plan: Plan, feed: Feed, names: Sequence[str], marks: Iterable[Mark | Window]) -> Plane:
    """Scene values of the marked pixels, channels x samples; marks outside of the picture give none."""
    found = []
    for mark in marks:
        window = (mark if isinstance(mark, Window) else mark.window).intersect(feed.description.window)
        if not window.empty:
            found.append((mark, window))
    if not found:
        return np.empty((len(names), 0), np.float32)

    def planes_of(window: Window) -> Mapping[str, Plane]:
        return engine.evaluate(feed, plan, region=window, channels=names, looked_at=True, patient=False).planes

    # Marks that lie upon each other are read once.
    together = reduce(Window.union, (window for _, window in found))
    once = planes_of(together) if together.area < sum(window.area for _, window in found) else None
    parts = []
    for mark, window in found:
        planes, cut = (once, window.within(together)) if once else (planes_of(window), np.s_[:, :])
        if isinstance(mark, Mark):
            y, x = np.ogrid[window.y : window.bottom, window.x : window.right]
            chosen = np.flatnonzero(np.hypot(x + 0.5 - mark.x, y + 0.5 - mark.y) <= mark.radius)
        else:
            chosen = np.arange(window.area)
        chosen = chosen[:: max(1, len(chosen) * len(found) // MOST_SAMPLES)]
        parts.append(np.stack([planes[name][cut].ravel()[chosen] for name in names]))
    return np.concatenate(parts, axis=1)
