"""What is likely wrong with a sum of passes, each with a remedy of one click."""

from __future__ import annotations

from typing import Any

import numpy as np

from nexal.addresses import split_address
from nexal.analysis.checking import check, remedy_kind
from nexal.engine import Engine, Plan
from nexal.engine.evaluate import SCALES
from nexal.formats.reading import StoredSource
from nexal.kernels.bounds import bounded
from nexal.operations.passes import pass_channels
from nexal.recipe import Step

TWICE = 0.02
"""How near a pass has to come to the sum of others, relative to its mean, to be taken for it."""
MOST_PASSES = 100

remedy_kind("read", "read")
"""Sources read in another colour encoding, by name."""


@check("passes", "sum_passes")
def check_sum(engine: Engine, plan: Plan, item: str) -> list[dict[str, Any]]:
    """Warnings about a `sum_passes` step: `code`, `text`, and a `remedy` with what the step becomes (`replace`).

    - a pass that holds data (depth, position, ids...), which is no light
    - light added twice: the same pass again, or a layer beside the parts that it is the sum of
    - display-encoded values added: whole numbers read as if they were light
    """
    step = plan.recipe.step(item)
    if step is None or step.op != "sum_passes" or not step.on:
        return []
    passes = step.inputs.get("passes", [])
    addresses = [passes] if isinstance(passes, str) else passes
    return _data(plan, step, addresses) + _twice(engine, plan, step, addresses) + _encoded(plan, step, addresses)


def _without(step: Step, addresses: list[str], places: set[int]) -> dict[str, Any]:
    """The step without some of its passes, their balances with them."""
    kept = [index for index in range(len(addresses)) if index not in places]
    given = step.settings.get("passes", [])
    settings = dict(step.settings)
    if given:
        settings["passes"] = [given[index] for index in kept if index < len(given)]
    inputs = dict(step.inputs) | {"passes": [addresses[index] for index in kept]}
    return {"in": inputs, "set": settings}


def _data(plan: Plan, step: Step, addresses: list[str]) -> list[dict[str, Any]]:
    found: dict[int, str] = {}
    for index, address in enumerate(addresses):
        item, feed = split_address(address)[0], plan.feed(address)
        if item in plan.recipe.sources and feed.description.all_data:
            reader = plan.readers[item]
            first = next(iter(feed.channels.values()))
            found[index] = reader.role(first) if isinstance(reader, StoredSource) else "data"
    if not found or len(found) == len(addresses):
        return []
    names = ", ".join(f"{addresses[index]} ({role})" for index, role in found.items())
    return [
        {
            "code": "data_in_sum",
            "text": f"No light: {names}",
            "remedy": {"label": "Take it out of the sum", "replace": _without(step, addresses, set(found))},
        }
    ]


def _twice(engine: Engine, plan: Plan, step: Step, addresses: list[str]) -> list[dict[str, Any]]:
    again = {index for index, address in enumerate(addresses) if address in addresses[:index]}
    reason = ", ".join(dict.fromkeys(addresses[index] for index in sorted(again)))
    if not again:
        found = _sum_of_others(engine, plan, addresses)
        if found:
            again = {found[0]}
            reason = f"{addresses[found[0]]} is the sum of {', '.join(addresses[index] for index in found[1])}"
    if not again:
        return []
    return [
        {
            "code": "light_twice",
            "text": f"Light added twice: {reason}",
            "remedy": {"label": "Leave it in once", "replace": _without(step, addresses, again)},
        }
    ]


def _sum_of_others(engine: Engine, plan: Plan, addresses: list[str]) -> tuple[int, list[int]] | None:
    """A pass that others of the sum add up to, such as the full picture, and those others; by the smallest proxy."""
    from scipy.optimize import nnls

    if not 2 < len(addresses) <= MOST_PASSES:
        return None
    totals = [_means(engine, plan, address) for address in addresses]
    if len({total.shape for total in totals}) > 1:
        return None
    flat = np.stack([total.ravel() for total in totals]).astype(np.float64)
    for whole in np.argsort(-np.abs(flat).sum(axis=1)):
        goal = flat[whole]
        size = max(float(np.abs(goal).mean()), 1e-9)
        # No part is brighter than the whole.
        within = [
            index
            for index, part in enumerate(flat)
            if index != whole and part.any() and float(np.mean(part > goal * (1 + TWICE) + 1e-6)) < TWICE
        ]
        if len(within) < 2:
            continue
        shares, _ = nnls(flat[within].T, goal)
        parts = [index for index, share in zip(within, shares, strict=True) if share > TWICE]
        plain = all(abs(share - 1) < TWICE for share in shares if share > TWICE)
        if len(parts) > 1 and plain and np.abs(goal - flat[parts].sum(axis=0)).mean() <= TWICE * size:
            return int(whole), parts
    return None


def _means(engine: Engine, plan: Plan, address: str) -> np.ndarray[Any, np.dtype[np.float32]]:
    feed = plan.feed(address)
    names = list(pass_channels(feed.description).values())
    region = feed.description.display.scaled(SCALES[-1])
    picture = engine.evaluate(
        feed, plan, scale=SCALES[-1], region=region, channels=names, looked_at=True, patient=False
    )
    return bounded(np.stack([picture.planes[name] for name in names]))


def _encoded(plan: Plan, step: Step, addresses: list[str]) -> list[dict[str, Any]]:
    odd = []
    for item in dict.fromkeys(split_address(address)[0] for address in addresses):
        reader = plan.readers.get(item)
        if isinstance(reader, StoredSource) and reader.stored.header["encoding"] == "srgb" and reader.space != "srgb":
            odd.append(item)
    if not odd:
        return []
    return [
        {
            "code": "encoded_light",
            "text": f"{', '.join(odd)}: whole numbers are display-encoded as a rule, and are added as light here",
            "remedy": {"label": "Read them as encoded", "read": dict.fromkeys(odd, "auto")},
        }
    ]
