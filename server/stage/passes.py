"""Routes of the Passes bench: audit, and each pass's share of the light."""

import hashlib
import json
from typing import Any

from django.http import HttpRequest
from ninja import Field, Router, Schema

from nexal.analysis.audit import MANY, beside, colour_layers, layers_of, steps_of
from nexal.analysis.audit import audit as core_audit
from nexal.analysis.shares import shares as core_shares
from nexal.engine import Cancellation, Plan
from nexal.engine.plan import Feed
from projects.access import get_shot, may_write, seen_shot
from stage import slow
from stage.requests import Ask, plan_of
from stage.services import engine
from stage.superseding import newest

router = Router()


class AuditAsk(Ask):
    address: str
    full: str | None = "RGB"
    page: str = Field("", max_length=100, description="Name of the asking page: what it wants no more, others may")


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
    """Which colour layers of an item, or sources beside it, add up to one of them; without `full`, to which.

    That of many layers is worked out in the background, and `pending` until it is there: ask again, and follow or stop
    it as the slow work that its place names. Of a viewer's it is the saved recipe.
    """
    shot = get_shot(request, shot_id)
    planned = plan_of(shot, ask)
    feed = planned.feed(ask.address)
    others = beside(planned, feed)
    if layers_of([feed, *others]) <= MANY:
        answer = core_audit(engine(), planned, feed, ask.full, newest(request, shot_id, "audit"), others)
        return _with_steps(answer, feed)
    if not may_write(request, shot):
        planned = plan_of(shot, Ask(frame=ask.frame))
        feed = planned.feed(ask.address)
    parts = [each.node.digest for each in (feed, *beside(planned, feed))]
    digest = hashlib.sha256(json.dumps(["audit", ask.full, parts]).encode()).hexdigest()
    question = {"kind": "audit", "address": ask.address, "full": ask.full}
    who = f"{request.session.session_key} {ask.page}"
    return slow.answered(shot, who, planned, f"audit of {ask.address}"[:63], digest, question)


def _with_steps(answer: dict[str, Any], feed: Feed) -> dict[str, Any]:
    steps = steps_of(answer) if answer["parts"] else []
    return answer | {"layers": colour_layers(feed.description), "steps": steps}


def _audit(planned: Plan, question: dict[str, Any], cancellation: Cancellation) -> dict[str, Any]:
    feed = planned.feed(question["address"])
    found = core_audit(engine(), planned, feed, question["full"], cancellation, beside(planned, feed))
    return _with_steps(found, feed)


slow.QUESTIONS["audit"] = _audit


@router.post("/shots/{shot_id}/shares", response=list[ShareRow])
def shares(request: HttpRequest, shot_id: int, ask: SharesAsk) -> list[dict[str, Any]]:
    """Each pass's part of the light of a sum, as it is balanced."""
    planned = plan_of(seen_shot(request, shot_id), ask)
    return core_shares(engine(), planned, planned.node(ask.item))
