"""What is likely wrong where pictures are put together: soft edges counted twice, sizes and windows that differ."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from nexal.addresses import split_address
from nexal.analysis.checking import check
from nexal.engine import Engine, Plan
from nexal.engine.evaluate import SCALES
from nexal.engine.plan import Feed, addresses_of
from nexal.kernels.bounds import covering
from nexal.picture import ALPHA_NAME, Alpha, Window
from nexal.recipe import Step

ADDING = frozenset({"plus", "over", "screen", "add"})
"""Ways to lay pictures over each other that are used to add passes up."""
ALIGNED = frozenset({"route", "sum_passes", "residual", "cross", "logic", "stack", "attach_alpha", "difference_pull"})
"""Operations whose inputs belong pixel on pixel."""
SAME = 0.004
"""How far two alphas may differ on the mean and still be one and the same edge."""
SOFT = 0.0005
"""Part of the pixels that has to lie between 0 and 1 for an edge to matter."""


@check("passes")
def check_assembly(engine: Engine, plan: Plan, item: str) -> list[dict[str, Any]]:
    """Warnings about a step that puts pictures together: `code`, `text`, and a `remedy` or none.

    - passes laid over each other, each with the same alpha of its own: their soft edge counts once for each
    - sizes that differ, with a `place` step that scales the one to the other
    - data windows that differ, which is told only
    """
    step = plan.recipe.step(item)
    if step is None or not step.on:
        return []
    return _own_alphas(engine, plan, step) + _sizes(plan, step)


def _stacked(plan: Plan, step: Step) -> list[tuple[str, float]]:
    """Addresses that a pile of `stack` steps adds up, the lowest first, each with its opacity."""
    found: list[tuple[str, float]] = []
    for port, opacity in (("under", 1.0), ("over", float(step.settings.get("opacity", 1.0)))):
        address = step.inputs.get(port)
        if not isinstance(address, str):
            continue
        name, rest = split_address(address)
        lower = plan.recipe.step(name)
        if lower and not rest and _adds(lower):
            found += [(inner, part * opacity) for inner, part in _stacked(plan, lower)]
        else:
            found.append((address, opacity))
    return found


def _adds(step: Step) -> bool:
    return step.on and step.op == "stack" and step.settings.get("mode", "over") in ADDING and "matte" not in step.inputs


def _light_of(plan: Plan, address: str) -> str | None:
    """The premultiplied light behind a pass: of one that got its alpha by a step, what that step was fed with."""
    name, rest = split_address(address)
    step = plan.recipe.step(name)
    if step and not rest and step.on and step.op in ("attach_alpha", "unpremultiply"):
        before = step.inputs.get("picture")
        return before if isinstance(before, str) else None
    return address if plan.feed(address).description.alpha is Alpha.PREMULTIPLIED else None


def _own_alphas(engine: Engine, plan: Plan, step: Step) -> list[dict[str, Any]]:
    if not _adds(step):
        return []
    passes = _stacked(plan, step)
    feeds = [plan.feed(address) for address, _ in passes]
    if len(passes) < 2 or not all(feed.description.has_alpha for feed in feeds):
        return []
    light = [_light_of(plan, address) for address, _ in passes]
    if None in light or any(opacity <= 0 for _, opacity in passes) or not _one_edge(engine, plan, feeds):
        return []
    names = ", ".join(address for address, _ in passes)
    balances = [{} if opacity == 1 else {"stops": round(math.log2(opacity), 4)} for _, opacity in passes]
    settings = {"passes": balances} if any(balances) else {}
    return [
        {
            "code": "own_alphas",
            "text": f"{names} are added each with its own alpha: the same soft edge counts {len(passes)} times and is "
            "wrong over what lies behind",
            "remedy": {
                "label": "Add them as light, one alpha at the end",
                "replace": {
                    "op": "sum_passes",
                    "in": {"passes": light, "alpha_from": f"{passes[0][0]}.{ALPHA_NAME}"},
                    "set": settings,
                },
            },
        }
    ]


def _one_edge(engine: Engine, plan: Plan, feeds: list[Feed]) -> bool:
    """Whether all pictures have the same alpha, with soft pixels in it. Looked at in the smallest proxy."""
    display = feeds[0].description.display
    if any(feed.description.display != display for feed in feeds):
        return False
    planes = []
    for feed in feeds:
        picture = engine.evaluate(
            feed,
            plan,
            scale=SCALES[-1],
            region=display.scaled(SCALES[-1]),
            channels=[ALPHA_NAME],
            looked_at=True,
            patient=False,
        )
        planes.append(covering(picture.planes[ALPHA_NAME]))
    soft = np.count_nonzero((planes[0] > 0.02) & (planes[0] < 0.98))
    return bool(soft > SOFT * planes[0].size) and all(float(np.abs(p - planes[0]).mean()) < SAME for p in planes[1:])


def _told(window: Window) -> str:
    return f"{window.width} x {window.height}"


def _sizes(plan: Plan, step: Step) -> list[dict[str, Any]]:
    if step.op not in ALIGNED:
        return []
    addresses = list(dict.fromkeys(addresses_of(step)))
    feeds = {address: plan.feed(address) for address in addresses}
    fixed = {address: feed for address, feed in feeds.items() if not _placed(feed)}
    if len(fixed) < 2:
        return []
    first, leader = next(iter(fixed.items()))
    display = leader.description.display
    for address, feed in fixed.items():
        other = feed.description.display
        if (other.width, other.height) != (display.width, display.height):
            return [_sizes_differ(first, display, address, other, plan.node(step.name).description.display)]
    return [] if step.op == "stack" else _windows(fixed)


def _placed(feed: Feed) -> bool:
    return feed.node.operation is not None and feed.node.operation.name in ("place", "constant")


def _sizes_differ(first: str, display: Window, address: str, other: Window, result: Window) -> dict[str, Any]:
    item = split_address(address)[0]
    scale = round(min(display.width / other.width, display.height / other.height), 6)
    # Scaled about the middle of its own display window, then moved so that the two middles meet.
    x, y = (display.width - other.width) / 2, (display.height - other.height) / 2
    return {
        "code": "sizes_differ",
        "text": f"Sizes differ: {first} is {_told(display)}, {address} is {_told(other)}. They are aligned at the top "
        f"left; the result is {_told(result)}",
        "remedy": {
            "label": f"Scale {item} to fit",
            "steps": [
                {
                    "name": f"{item}_scaled",
                    "op": "place",
                    "in": {"picture": item},
                    "set": {"scale": scale, "x": x, "y": y},
                }
            ],
            "instead": item,
        },
    }


def _windows(feeds: dict[str, Feed]) -> list[dict[str, Any]]:
    windows = {split_address(address)[0]: feed.description.window for address, feed in feeds.items()}
    if len(set(windows.values())) < 2:
        return []
    listed = [f"{item} {_told(window)} at {window.x}, {window.y}" for item, window in windows.items()]
    more = f" and {len(listed) - 4} more" if len(listed) > 4 else ""
    return [
        {
            "code": "windows_differ",
            "text": f"Data windows differ: {'; '.join(listed[:4])}{more}. The result covers all of them; outside its "
            "own a picture is 0",
            "remedy": None,
        }
    ]
