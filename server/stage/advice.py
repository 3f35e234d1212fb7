"""Route of the warnings: what is likely wrong with an item, on any bench, each with its remedy."""

from typing import Any

from django.http import HttpRequest
from ninja import Router, Schema

from nexal.analysis.advice import advise
from projects.access import get_shot
from stage.requests import StepAsk, plan_of, sides
from stage.services import engine

router = Router()


class Remedy(Schema):
    """What one click does: steps to add behind the item, or (with `instead`) behind an address that it (or the step
    `within`) is fed from, to stand in its place there; a port of it to feed anew, from the added steps if there are
    any; another `op`, `in`, `set` or `on` for it (`replace`) or for other steps (`change`, by name); or sources to
    read otherwise (their `colour` in `read`, their alpha in `read_alpha`)."""

    label: str
    steps: list[dict[str, Any]] = []
    instead: str | None = None
    within: str | None = None
    change: dict[str, dict[str, Any]] | None = None
    feed: dict[str, str] | None = None
    replace: dict[str, Any] | None = None
    read: dict[str, str] | None = None
    read_alpha: dict[str, str] | None = None


class Advice(Schema):
    """What is likely wrong, with a remedy; what is only worth knowing has none."""

    code: str
    text: str
    remedy: Remedy | None


@router.post("/shots/{shot_id}/checks", response=list[Advice])
def checks(request: HttpRequest, shot_id: int, ask: StepAsk) -> list[dict[str, Any]]:
    """What is likely wrong with an item, each with its remedy."""
    planned = plan_of(get_shot(request, shot_id), ask)
    return advise(engine(), planned, ask.item, **sides(ask.marks))
