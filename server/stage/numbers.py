"""Routes: numbers of any item of a recipe: values under the pointer, and histograms."""

from typing import Any

from django.http import HttpRequest
from ninja import Field, Router, Schema

from nexal.analysis.view import histogram as core_histogram
from nexal.analysis.view import probe as core_probe
from projects.access import seen_shot
from stage.requests import Ask, Marks, Pixel, plan_of, sides
from stage.services import engine

router = Router()


class ProbeAsk(Ask):
    addresses: list[str] = Field(max_length=8)
    x: Pixel
    y: Pixel
    size: int = Field(1, ge=1, le=65)


class HistogramAsk(Ask, Marks):
    address: str
    domain: str = "display"
    bins: int = Field(128, ge=2, le=1024)
    low: float = Field(0.0, ge=-1e9, le=1e9)
    high: float = Field(1.0, ge=-1e9, le=1e9)


class ProbedChannel(Schema):
    name: str
    value: float | None
    encoded: float | None
    colour: bool
    non_finite: int


class Probed(Schema):
    address: str
    inside: bool
    alpha: str
    channels: list[ProbedChannel]


class HistogramRow(Schema):
    min: float | None
    max: float | None
    low: float
    high: float
    counts: list[int]
    below: int
    above: int
    total: int
    subject: list[int] | None = Field(None, description="Counts of the marked subject alone")
    background: list[int] | None = Field(None, description="Counts of the marked background alone")


@router.post("/shots/{shot_id}/probe", response=list[Probed])
def probe(request: HttpRequest, shot_id: int, ask: ProbeAsk) -> list[Probed]:
    """Exact values under a pixel (or averaged over a square round it) of several items."""
    planned = plan_of(seen_shot(request, shot_id), ask)
    rows = []
    for address in ask.addresses:
        feed = planned.feed(address)
        rows.append(Probed(address=address, **core_probe(engine(), planned, feed, ask.x, ask.y, ask.size)))
    return rows


@router.post("/shots/{shot_id}/histogram", response=HistogramRow)
def histogram(request: HttpRequest, shot_id: int, ask: HistogramAsk) -> dict[str, Any]:
    """Histogram of an item over 0 to 1 in a domain."""
    planned = plan_of(seen_shot(request, shot_id), ask)
    feed = planned.feed(ask.address)
    return core_histogram(engine(), planned, feed, ask.domain, ask.bins, **sides(ask.marks), low=ask.low, high=ask.high)
