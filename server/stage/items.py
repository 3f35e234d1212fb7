"""Route: what the items of a recipe are, or what is wrong with them."""

import json
from operator import attrgetter
from threading import Lock
from typing import Any

from cachetools import LRUCache, cached
from django.http import HttpRequest, HttpResponse
from ninja import Field, Router, Schema

from config.errors import Problem, problem_of
from nexal.engine import Node, Plan
from nexal.engine.plan import addresses_of
from nexal.errors import NexalError
from nexal.recipe import Step
from projects.access import seen_shot
from stage.requests import Ask, plan_of

router = Router()


class Item(Schema):
    """What an item is, or what is wrong with it. Windows are x, y, width, height, relative to the display window.

    `inks` is the name of the ICC profile that it carries.
    """

    name: str
    digest: str = ""
    display: list[int] | None = None
    window: list[int] | None = None
    channels: list[str] = []
    data: list[str] = []
    roles: list[str] = Field([], description="What each channel holds, in the order of `channels`")
    alpha: str = "none"
    plane: bool = False
    inks: str | None = None
    inputs: list[str] = []
    problem: Problem | None = None


_UNKNOWN = Item(name="", roles=[]).dict()
ITEMS_BYTES = 8 << 20
"""Of answers that are kept."""


@router.post("/shots/{shot_id}/inspect", response=list[Item])
def inspect(request: HttpRequest, shot_id: int, ask: Ask) -> HttpResponse:
    """Every item of a recipe: channels, windows, alpha state and digest, or its fault."""
    return HttpResponse(told(plan_of(seen_shot(request, shot_id), ask)), content_type="application/json")


@cached(LRUCache(ITEMS_BYTES, getsizeof=len), key=attrgetter("digest"), lock=Lock())
def told(planned: Plan) -> bytes:
    """What is told of the items, as JSON. It is kept: a shot is opened by its next reader, or a change taken back."""
    found = planned.inspect()
    steps = {step.name: step for step in planned.recipe.steps}
    rows = [_item(planned, name, steps.get(name), found[name]) for name in planned.recipe.items()]
    return json.dumps(rows).encode()


def _item(planned: Plan, name: str, step: Step | None, found: Node | NexalError) -> dict[str, Any]:
    """An `Item`. Made as one and checked, all of a long recipe would take four times as long as to plan it."""
    fed = planned.inputs.get(name, addresses_of(step) if step and name not in planned.inputs else [])
    inputs = list(dict.fromkeys(address.partition(".")[0] for address in fed))
    if isinstance(found, NexalError):
        return {**_UNKNOWN, "name": name, "inputs": inputs, "problem": problem_of(found).dict()}
    description = found.description
    return {
        "name": name,
        "digest": found.digest,
        "display": description.display.as_list(),
        "window": description.window.as_list(),
        "channels": list(description.channels),
        "data": [channel for channel in description.channels if channel in description.data],
        "roles": [description.trait(channel).role for channel in description.channels],
        "alpha": description.alpha.value if description.has_alpha else "none",
        "plane": description.is_plane,
        "inks": description.inks.name if description.inks else None,
        "inputs": inputs,
        "problem": None,
    }
