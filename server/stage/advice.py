"""Route of the warnings: what is likely wrong with an item, on any bench, each with its remedy."""

from typing import Any

from django.http import HttpRequest
from ninja import Field, Router, Schema

from nexal.analysis.advice import advise
from projects.access import seen_shot
from stage.requests import StepAsk, plan_of, sides
from stage.services import engine

router = Router()


class Remedy(Schema):
    """What one click does: `kind` says how `does` is to be read; see `nexal/analysis/checking.py`."""

    label: str
    kind: str
    effect: str = Field("", description="What it does, in figures, where that was measured")
    does: dict[str, Any]


class Advice(Schema):
    """What is likely wrong, with a remedy; what is only worth knowing has none."""

    code: str
    text: str
    remedy: Remedy | None


@router.post("/shots/{shot_id}/checks", response=list[Advice])
def checks(request: HttpRequest, shot_id: int, ask: StepAsk) -> list[dict[str, Any]]:
    """What is likely wrong with an item, each with its remedy."""
    planned = plan_of(seen_shot(request, shot_id), ask)
    found = advise(engine(), planned, ask.item, **sides(ask.marks))
    return [row | {"remedy": _parted(row["remedy"]) if row["remedy"] else None} for row in found]


def _parted(remedy: dict[str, Any]) -> dict[str, Any]:
    words = {key: remedy[key] for key in ("label", "kind", "effect") if key in remedy}
    return words | {"does": {key: value for key, value in remedy.items() if key not in words}}
