"""How much of a sum's light each pass gives."""

from __future__ import annotations

from typing import Any

import numpy as np

from nexal.colour import LUMINANCE
from nexal.engine import Engine, Node, Plan
from nexal.engine.evaluate import SCALES
from nexal.engine.plan import Feed
from nexal.errors import RecipeError
from nexal.kernels.bounds import bounded
from nexal.operations.passes import UNTOUCHED, SumPasses, pass_channels


def shares(engine: Engine, plan: Plan, node: Node) -> list[dict[str, Any]]:
    """For each pass of a `sum_passes` step, in order: `light`, its mean luminance as it is balanced, whether it
    `sounds`, and `share`, its part of the light of those that do.

    Means of positive Rec.709 luminance over the pass's data window, at 1/8 of the size; a product of lighting and
    colour is taken pixel by pixel.
    Raises RecipeError where the item is no such step.
    """
    if not isinstance(node.operation, SumPasses) or node.feeds is None:
        raise RecipeError("adds no passes up", where=f"step '{node.item}'", remedy="choose a sum_passes step")
    settings: Any = node.settings
    count = sum(port.startswith("passes.") for port in node.feeds)
    sounding = {index for index, _ in node.operation.sounding(count, settings)}
    rows = []
    for index in range(count):
        balance = settings.passes[index] if index < len(settings.passes) else UNTOUCHED
        light = _light(engine, plan, node.feeds[f"passes.{index}"], node.feeds.get(f"times.{index}"), balance.gains)
        rows.append({"light": light, "sounds": index in sounding})
    total = sum(row["light"] for row in rows if row["sounds"])
    return [row | {"share": row["light"] / total if row["sounds"] and total > 0 else 0.0} for row in rows]


def _light(engine: Engine, plan: Plan, feed: Feed, times: Feed | None, gains: tuple[float, float, float]) -> float:
    planes = _colour(engine, plan, feed)
    if times is not None:
        region = feed.description.window.scaled(SCALES[-1])
        planes = planes * _colour(engine, plan, times, region)
    weighted = sum(
        weight * gain * bounded(plane) for weight, gain, plane in zip(LUMINANCE.values(), gains, planes, strict=True)
    )
    return float(np.maximum(weighted, 0).mean())


def _colour(engine: Engine, plan: Plan, feed: Feed, region: Any = None) -> np.ndarray[Any, np.dtype[np.float32]]:
    """Red, green and blue of a pass at 1/8; a grey one counts for all three."""
    own = pass_channels(feed.description)
    names = [own.get(name, next(iter(own.values()))) for name in "RGB"]
    wanted = tuple(dict.fromkeys(names))
    planes = engine.evaluate(
        feed, plan, scale=SCALES[-1], region=region, channels=wanted, looked_at=True, patient=False
    ).planes
    return np.stack([planes[name] for name in names])
