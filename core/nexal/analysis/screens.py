"""Whether a picture stands before a coloured screen: which, how bare, how even, how noisy."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nexal.engine import Engine, Plan
from nexal.engine.evaluate import scale_within
from nexal.engine.plan import Feed
from nexal.errors import RecipeError
from nexal.kernels.bounds import bounded
from nexal.kernels.denoising import noise_of
from nexal.kernels.screening import SCREENS
from nexal.kernels.screens import bare_screen, commonest_screen, estimated, soft
from nexal.operations.keying import rgb_names
from nexal.picture import Window

LONGEST, CROP = 640, 256
LEAST_BARE = 0.08
"""Share of the picture that a screen's bare part has at least."""
ROUGH = 0.05
"""Relative deviation of bare pixels from the smooth screen, in the median, above which they are leaves, or a lawn."""


@dataclass(frozen=True)
class ScreenFacts:
    """`screen`: its colour; `bare`: the share of the picture that surely shows it; `uneven`: how far its light goes up
    and down about the middle, for nine pixels in ten; `noise`: standard deviation, as a share of its light."""

    screen: str
    bare: float
    uneven: float
    noise: float


def screen_facts(engine: Engine, plan: Plan, feed: Feed) -> ScreenFacts | None:
    """What is known of the coloured screen behind a picture; None where it stands before none."""
    try:
        names = rgb_names(feed.description, "picture")
    except RecipeError:
        return None
    window = feed.description.display
    scale = scale_within(window, LONGEST)

    def seen(region: Window, at: Fraction) -> NDArray[np.float32]:
        found = engine.evaluate(feed, plan, scale=at, region=region, channels=list(names), patient=False).planes
        return bounded(np.stack([found[name] for name in names]))

    small = seen(window.scaled(scale), scale)
    screen = commonest_screen(small) if min(small.shape[1:]) >= 16 else None
    if screen is None:
        return None
    bare = bare_screen(small, screen)
    share = float(bare.mean())
    if share < LEAST_BARE:
        return None
    plate, _ = estimated(small, bare)
    own = SCREENS[screen][0]
    if float(np.median(np.abs(small[own] / plate[own] - 1)[bare])) > ROUGH:
        return None
    low, middle, high = (float(value) for value in np.percentile(plate[own][bare], (5, 50, 95)))
    # Its noise is that of the full picture, where most of it is bare.
    y, x = np.unravel_index(int(np.argmax(soft(bare.astype(np.float32), 20))), bare.shape)
    left, top = (int(at / float(scale)) - CROP // 2 for at in (x, y))
    crop = seen(Window(window.x + left, window.y + top, CROP, CROP).intersect(window), Fraction(1))
    model = noise_of(crop)
    deviation = float(np.sqrt(model.base + model.slope * middle)) / middle
    return ScreenFacts(screen, share, (high - low) / 2 / middle, deviation)


def whole_matte(address: str) -> list[dict[str, Any]]:
    """Plain steps that make a whole matte and its colour of a picture before a coloured screen."""
    shot = {"picture": address, "clean": "plate"}
    return [
        {"name": "plate", "op": "screen_plate", "in": {"picture": address}},
        {"name": "matte", "op": "screen_solve", "in": shot},
        {"name": "spill", "op": "screen_solve", "in": shot, "set": {"gives": "spill"}},
        {"name": "cut", "op": "recover_colour", "in": shot | {"matte": "matte", "spill": "spill"}},
    ]
