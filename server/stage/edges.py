"""Routes of the Edges bench: diagnosis, and the profile of an edge."""

from typing import Any

from django.http import HttpRequest
from ninja import Field, Router, Schema

from nexal.analysis.diagnose import cure_of
from nexal.analysis.diagnose import diagnose as core_diagnose
from nexal.analysis.edge_view import profile as core_profile
from projects.access import seen_shot
from stage.requests import Ask, Light, Position, plan_of
from stage.services import engine

router = Router()


class DiagnoseAsk(Ask):
    address: str
    alpha: str | None = Field(None, description="Address of an alpha that came apart from the picture")


class Cure(Schema):
    """Steps to take, names being proposals, or the alpha state to read the source with."""

    text: str
    steps: list[dict[str, Any]]
    read: str | None


class Diagnosed(Schema):
    """`backing` is in the values of `domain`, in which the mixing was done."""

    verdict: str
    domain: str | None
    confidence: float
    backing: list[float]
    claims: str
    figures: dict[str, Any]
    cure: Cure | None


class ProfileAsk(Ask):
    addresses: list[str] = Field(min_length=1, max_length=4)
    start: tuple[Position, Position]
    end: tuple[Position, Position]
    backdrop: tuple[Light, Light, Light] | None = Field(None, description="Scene-linear colour that lies behind")


class ProfileRow(Schema):
    """Display-encoded colour and alpha along the line; `step` is in pixels."""

    address: str
    r: list[float]
    g: list[float]
    b: list[float]
    a: list[float]
    step: float


@router.post("/shots/{shot_id}/diagnose", response=Diagnosed)
def diagnose(request: HttpRequest, shot_id: int, ask: DiagnoseAsk) -> dict[str, Any]:
    """What a picture really is: straight, premultiplied or matted with a colour; with evidence and cure."""
    planned = plan_of(seen_shot(request, shot_id), ask)
    alpha = planned.feed(ask.alpha) if ask.alpha else None
    answer = core_diagnose(engine(), planned, planned.feed(ask.address), alpha)
    return answer | {"cure": cure_of(answer, ask.address, ask.alpha)}


@router.post("/shots/{shot_id}/profile", response=list[ProfileRow])
def profile(request: HttpRequest, shot_id: int, ask: ProfileAsk) -> list[dict[str, Any]]:
    """Colour along a line across an edge, of several items."""
    planned = plan_of(seen_shot(request, shot_id), ask)
    return [
        {"address": address} | core_profile(engine(), planned, planned.feed(address), ask.start, ask.end, ask.backdrop)
        for address in ask.addresses
    ]
