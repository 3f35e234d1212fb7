"""A matte put to the proof: the shot is rebuilt from it, and compared with what was filmed, in units of its noise."""

from __future__ import annotations

from typing import Any

import numpy as np

from nexal.analysis.screens import screen_facts
from nexal.analysis.trying import tried
from nexal.engine import Cancellation, Engine, Plan
from nexal.engine.evaluate import scale_within
from nexal.errors import RecipeError
from nexal.kernels.bounds import bounded
from nexal.picture import Plane

LONGEST = 960
WRONG = 3.0
"""Times the noise above which a difference is none of noise."""
SURE, LEAST_APART, DIFFERS = 0.01, 0.1, 0.1
"""Alphas that count as 0 and, from 1, as 1; how far apart posts are at least; and what is a difference."""


def rebuilding(plan: Plan, item: str) -> list[dict[str, Any]]:
    """Steps that rebuild the shot from a step's matte and compare the two: the last but one is the rebuilt shot, the
    last how far it is off in units of noise.

    Its colour is found without the background, so that what the matte gets wrong shows. Raises RecipeError for a step
    that has no picture, or whose background is not known.
    """
    step = plan.recipe.step(item)
    picture = step.inputs.get("picture") if step else None
    if step is None or not isinstance(picture, str) or not plan.feed(item).description.is_plane:
        raise RecipeError("is no matte of a picture", where=f"step '{item}'", remedy="choose a step that makes a matte")
    clean = step.inputs.get("clean")
    steps: list[dict[str, Any]] = []
    if not isinstance(clean, str):
        if step.op not in ("screen_solve", "screen_pull"):
            raise RecipeError(
                "does not tell what is behind its subject",
                where=f"step '{item}'",
                remedy="feed the clean background to its port 'clean'",
            )
        clean = "behind"
        steps.append({"name": clean, "op": "screen_plate", "in": {"picture": picture}})
    steps.append({"name": "own", "op": "recover_colour", "in": {"picture": picture, "matte": item}})
    steps.append({"name": "rebuilt", "op": "stack", "in": {"under": clean, "over": "own"}})
    steps.append({"name": "off_by", "op": "noise_residual", "in": {"picture": picture, "rebuilt": "rebuilt"}})
    return steps


def by_hand(engine: Engine, plan: Plan, item: str, cancellation: Cancellation | None = None) -> list[dict[str, Any]]:
    """The chain that one would build by hand instead of a whole matte before a screen: noise taken out, pulled by the
    plate, and its posts set as an eye would: 99 of 100 pixels that the matte drops become 0, and 98 of what it keeps 1.
    """
    step = plan.recipe.step(item)
    assert step is not None
    picture, clean = step.inputs["picture"], step.inputs.get("clean")
    screen = str(step.settings.get("screen", "auto"))
    if screen == "auto":
        facts = screen_facts(engine, plan, plan.feed(str(picture)))
        screen = facts.screen if facts else "green"
    steps: list[dict[str, Any]] = [{"name": "quiet", "op": "denoise", "in": {"picture": picture}}]
    if clean is None:
        clean = "behind"
        steps.append({"name": clean, "op": "screen_plate", "in": {"picture": picture}, "set": {"screen": screen}})
    pull = {"name": "by_hand", "op": "screen_pull", "in": {"picture": "quiet", "clean": clean}}
    pulled = seen(engine, plan, item, [*steps, pull | {"set": {"screen": screen}}], cancellation)
    matte = seen(engine, plan, item, [], cancellation)
    dropped, kept = pulled[matte < SURE], pulled[matte > 1 - SURE]
    black = float(np.percentile(dropped, 99)) if dropped.size else 0.0
    white = float(np.percentile(kept, 2)) if kept.size else 1.0
    if white - black < LEAST_APART:
        black, white = 0.0, 1.0
    return [*steps, pull | {"set": {"screen": screen, "black": round(black, 3), "white": round(white, 3)}}]


def seen(
    engine: Engine, plan: Plan, item: str, steps: list[dict[str, Any]], cancellation: Cancellation | None
) -> Plane:
    """The plane that the last of some steps makes, put in after an item, or the item's own; no longer than 960."""
    made = tried(plan, item, {"kind": "insert", "steps": steps})
    assert made
    other, name = made
    feed = other.feed(name)
    scale = scale_within(feed.description.window, LONGEST)
    picture = engine.evaluate(feed, other, scale=scale, cancellation=cancellation)
    return bounded(next(iter(picture.planes.values())))


def rebuilt(engine: Engine, plan: Plan, item: str, cancellation: Cancellation | None = None) -> dict[str, Any]:
    """How far a shot that is rebuilt from a step's matte is off, and how a chain built by hand differs from it.

    Answers `mean` and `worst` (the 99.9th percentile) in units of the shot's noise, `share`, the part of the picture
    that is off by more than three, and `steps` (see `rebuilding`); of a whole matte before a screen also `by_hand`,
    its `steps` (see there) and the `share` of the picture where they differ by more than a tenth. Waits for slow
    results. Raises RecipeError.
    """
    steps = rebuilding(plan, item)
    off = seen(engine, plan, item, steps, cancellation)
    found: dict[str, Any] = {
        "mean": float(off.mean(dtype=np.float64)),
        "worst": float(np.percentile(off, 99.9)),
        "share": float((off > WRONG).mean()),
        "steps": steps,
        "by_hand": None,
    }
    step = plan.recipe.step(item)
    if step is not None and step.op == "screen_solve":
        hand = by_hand(engine, plan, item, cancellation)
        apart = np.abs(seen(engine, plan, item, hand, cancellation) - seen(engine, plan, item, [], cancellation))
        found["by_hand"] = {"steps": hand, "share": float((apart > DIFFERS).mean())}
    return found
