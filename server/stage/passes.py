"""Routes of the Passes bench: audit, and each pass's share of the light."""

from typing import Any

from django.http import HttpRequest
from ninja import Router, Schema

from nexal.analysis.audit import audit as core_audit
from nexal.analysis.audit import beside, colour_layers, steps_of
from nexal.analysis.shares import shares as core_shares
from projects.access import get_shot
from stage.requests import Ask, plan_of
from stage.services import engine
from stage.superseding import newest

router = Router()


class AuditAsk(Ask):
    address: str
    full: str | None = "RGB"


class Part(Schema):
    layer: str
    coefficient: float
    times: str | None = None


class Figures(Schema):
    """Absolute difference over all pixels and channels, linear; PSNR for a peak of 1, None where all is equal."""

    mean: float
    p99: float
    max: float
    psnr: float | None


class SumRow(Schema):
    layer: str
    of: list[str]


class Audited(Schema):
    """Which layers add up to the full picture; `steps` rebuild it and show what is left, names being proposals."""

    full: str
    layers: list[str]
    parts: list[Part]
    claimed: bool
    residual: Figures
    explained: float
    place: list[int] | None
    sums: list[SumRow]
    alpha: str | None
    addresses: dict[str, str]
    steps: list[dict[str, Any]]


class SharesAsk(Ask):
    item: str


class ShareRow(Schema):
    light: float
    sounds: bool
    share: float


@router.post("/shots/{shot_id}/audit", response=Audited)
def audit(request: HttpRequest, shot_id: int, ask: AuditAsk) -> dict[str, Any]:
    """Which colour layers of an item, or sources beside it, add up to one of them; without `full`, to which."""
    planned = plan_of(get_shot(request, shot_id), ask)
    feed = planned.feed(ask.address)
    turn = newest(request.session.session_key, shot_id, "audit")
    answer = core_audit(engine(), planned, feed, ask.full, turn, beside(planned, feed))
    steps = steps_of(answer) if answer["parts"] else []
    return answer | {"layers": colour_layers(feed.description), "steps": steps}


@router.post("/shots/{shot_id}/shares", response=list[ShareRow])
def shares(request: HttpRequest, shot_id: int, ask: SharesAsk) -> list[dict[str, Any]]:
    """Each pass's part of the light of a sum, as it is balanced."""
    planned = plan_of(get_shot(request, shot_id), ask)
    return core_shares(engine(), planned, planned.node(ask.item))
