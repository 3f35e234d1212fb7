"""What helpers of mattes did, in figures, and where they leave what the picture shows."""

from __future__ import annotations

from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from nexal.analysis.checking import check
from nexal.engine import Engine, Plan
from nexal.engine.evaluate import scale_within
from nexal.kernels.bounds import bounded, covering
from nexal.kernels.morphology import areas_of, local_range
from nexal.kernels.pointmath import encode
from nexal.operations import find, parse_settings
from nexal.operations.keying import rgb_names
from nexal.operations.mattes import DespeckleSettings, limit_of
from nexal.operations.refining import FineEdgeSettings, band_of
from nexal.picture import PLANE_NAME, Plane
from nexal.recipe import Step

LONGEST = 2048
CHANGED = 0.02
"""Change of a matte from which on it counts."""
MUCH = 0.1
FLAT = 0.03
"""Range of display-encoded colour within a few pixels below which a picture shows no edge."""
NEAR = 7
SHARE = 0.15
"""Part of what was changed that may lie where the picture shows no edge."""


@check("mattes", "fine_edge", "despeckle")
def check_helpers(engine: Engine, plan: Plan, item: str) -> list[dict[str, Any]]:
    """What `fine_edge` and `despeckle` changed, in figures, as things worth knowing, and where a refined edge leaves
    what the picture shows."""
    step = plan.recipe.step(item)
    address = step.inputs.get("matte") if step else None
    if step is None or not step.on or not isinstance(address, str):
        return []
    scale = scale_within(plan.feed(item).description.display, LONGEST)
    region = plan.feed(item).description.display.scaled(scale)
    after, before = (
        covering(
            engine.evaluate(plan.feed(name), plan, scale=scale, region=region, looked_at=True, patient=False).planes[
                PLANE_NAME
            ]
        )
        for name in (item, address)
    )
    gap = np.abs(after - before)
    share = float(np.mean(gap > CHANGED))
    told = (
        f"Changed {share:.2%} of the pixels, coverage {float(before.mean()):.2%} to {float(after.mean()):.2%}"
        if share
        else "Changed nothing"
    )
    if step.op == "despeckle":
        return [{"code": "changed", "text": f"{told}; {_specks(step, before, float(scale))}", "remedy": None}]
    settings = parse_settings(find("fine_edge"), step.settings)
    assert isinstance(settings, FineEdgeSettings)
    # The band is found in full resolution: a proxy does not tell it.
    known = settings.band != "auto" or scale == 1
    band = f"{band_of(before, settings)} px" if known else "by the matte's own edge"
    rows: list[dict[str, Any]] = [{"code": "changed", "text": f"{told}; band {band}", "remedy": None}]
    astray = _astray(engine, plan, step, gap)
    if astray > SHARE:
        text = f"{astray:.0%} of what it changed lies where the picture shows no edge: narrow the band, or take auto"
        rows.append({"code": "astray", "text": text, "remedy": None})
    return rows


def _specks(step: Step, before: Plane, scale: float) -> str:
    settings = parse_settings(find("despeckle"), step.settings)
    assert isinstance(settings, DespeckleSettings)
    mask = before >= np.float32(settings.level)
    words = []
    for part, size, what in ((mask, settings.islands, "specks gone"), (~mask, settings.holes, "holes filled")):
        limit = limit_of(part, size, scale)
        count = int(np.count_nonzero(areas_of(part) < limit))
        words.append(f"{count} {what} (under {limit / scale**2:.0f} px²)")
    return ", ".join(words)


def _astray(engine: Engine, plan: Plan, step: Step, gap: Plane) -> float:
    """The part of what was changed much that lies where the picture is flat."""
    much = gap > MUCH
    if not much.any():
        return 0.0
    feed = plan.feed(str(step.inputs["picture"]))
    names = rgb_names(feed.description, "picture")
    scale = scale_within(plan.feed(step.name).description.display, LONGEST)
    region = plan.feed(step.name).description.display.scaled(scale)
    planes = engine.evaluate(
        feed, plan, scale=scale, region=region, channels=names, looked_at=True, patient=False
    ).planes
    flat: NDArray[np.bool_] = np.ones(gap.shape, bool)
    for name in names:
        shown = cv2.GaussianBlur(np.clip(encode(bounded(planes[name])), 0, 1), (0, 0), 1.0)
        flat &= local_range(shown, NEAR) < FLAT
    return float(np.count_nonzero(much & flat) / np.count_nonzero(much))
