"""Routes of time: what a region holds is followed, and how steady a matte is, some frames at a time."""

from functools import lru_cache
from typing import Annotated

from django.http import HttpRequest
from ninja import Field, Router, Schema

from nexal.analysis.follow import follow as core_follow
from nexal.analysis.follow import seen_through
from nexal.analysis.steady import Steadiness, Verdict, summary
from nexal.analysis.steady import steady as core_steady
from nexal.engine import Plan
from nexal.kernels.following import Model
from nexal.recipe import FrameNumber, Recipe
from projects.access import seen_shot
from projects.models import Shot
from stage.requests import Ask, Position, checked
from stage.services import engine, plan

router = Router()

MOST_FRAMES = 48
"""Frames that are asked for at a time: the browser goes on with the next ones."""
MOST_ROWS = 10_000
Share = Annotated[float, Field(ge=0, le=1)]
Corner = Annotated[list[Position], Field(min_length=2, max_length=2)]
Number = Annotated[float, Field(ge=-1e9, le=1e9)]


class FollowAsk(Ask):
    """What `outline` holds of an item at frame `start`; `before` is where it lay at the frame before the first one."""

    address: str
    outline: list[Corner] = Field(min_length=3, max_length=2000)
    start: FrameNumber
    frames: list[FrameNumber] = Field(min_length=1, max_length=MOST_FRAMES)
    model: Model = "similarity"
    search: bool = False
    before: list[Number] | None = Field(None, min_length=9, max_length=9)


class FollowedRow(Schema):
    """A frame; without a matrix it is lost."""

    frame: int
    sure: float
    matrix: list[float] | None
    points: list[list[float]]


class SteadyAsk(Ask):
    address: str
    frames: list[FrameNumber] = Field(min_length=1, max_length=MOST_FRAMES)


class SteadyRow(Schema):
    """Mean of the matte; its mean change since the frame before where the picture stood still; what changed near its
    edges beyond the picture's movement, the part of that which neighbours share, and of how many that could be told."""

    frame: FrameNumber
    coverage: Share
    change: Share | None
    still: Share
    flicker: Share | None
    common: Share | None
    judged: Share


class WholeRange(Schema):
    """All rows of a range, in order."""

    rows: list[SteadyRow] = Field(min_length=1, max_length=MOST_ROWS)


class ToldRange(Schema):
    """What is to be said of a whole range and of each of its frames (nothing of the first one), and the frames whose
    change stands out."""

    verdict: Verdict
    verdicts: list[Verdict | None]
    worst: list[int]
    mean_change: float


class _Plans:
    """The plans of a recipe's frames; the last few are kept."""

    def __init__(self, shot: Shot, recipe: Recipe) -> None:
        self._shot, self._recipe = shot, recipe
        self.at = lru_cache(4)(self._made)

    def _made(self, frame: int) -> Plan:
        return plan(self._shot, self._recipe, frame)


def _plans_of(shot: Shot, ask: Ask) -> _Plans:
    recipe = ask.recipe
    if recipe is None:
        assert shot.head is not None
        recipe = shot.head.recipe
    return _Plans(shot, checked(recipe))


@router.post("/shots/{shot_id}/follow", response=list[FollowedRow])
def follow(request: HttpRequest, shot_id: int, ask: FollowAsk) -> list[FollowedRow]:
    """Where what an outline holds lies at some frames, in their order. It ends where it is lost."""
    plans = _plans_of(seen_shot(request, shot_id), ask)
    seen = seen_through(engine(), plans.at, ask.address)
    rows = core_follow(seen, ask.outline, ask.start, ask.frames, ask.model, search=ask.search, from_matrix=ask.before)
    return [FollowedRow(**({"matrix": None} | row.row())) for row in rows]


@router.post("/shots/{shot_id}/steady", response=list[SteadyRow])
def steady(request: HttpRequest, shot_id: int, ask: SteadyAsk) -> list[SteadyRow]:
    """How a matte changes over some frames, in their order, where its picture does not."""
    plans = _plans_of(seen_shot(request, shot_id), ask)
    return [SteadyRow(**row.row()) for row in core_steady(engine(), plans.at, ask.address, ask.frames)]


@router.post("/shots/{shot_id}/steadiness", response=ToldRange)
def steadiness(request: HttpRequest, shot_id: int, ask: WholeRange) -> ToldRange:
    """What is to be said of a range that was judged to its end."""
    seen_shot(request, shot_id)
    told = summary([Steadiness(**row.dict()) for row in ask.rows])
    verdicts = [row["verdict"] for row in told["frames"]]
    return ToldRange(verdict=told["verdict"], verdicts=verdicts, worst=told["worst"], mean_change=told["mean_change"])
