"""Routes of the Mattes bench: marks, scout, thin parts, and the slow work of a shot."""

import hashlib
from collections.abc import Callable
from dataclasses import asdict
from typing import Any

from django.db.models import Q
from django.http import HttpRequest
from ninja import Field, Router, Schema

from config.errors import Problem
from nexal.analysis import scout as core
from nexal.analysis.doubts import doubtful
from nexal.analysis.doubts import doubts as core_doubts
from nexal.analysis.matte_checks import thin_parts as core_thin_parts
from nexal.analysis.rebuilding import rebuilding
from nexal.analysis.rebuilding import rebuilt as core_rebuilt
from nexal.analysis.screens import screen_facts, whole_matte
from nexal.engine import Cancellation, Plan
from nexal.errors import Pending, RecipeError
from nexal.picture import Window
from projects.access import get_shot, may_write, seen_shot
from projects.models import Shot
from stage import slow as slow_steps
from stage.models import SlowResult
from stage.requests import Ask, Marks, NewMarks, StepAsk, plan_of, sides
from stage.services import engine
from stage.superseding import newest

router = Router()


class ScoutAsk(Ask, Marks):
    address: str
    ink: bool = False
    rows: int = Field(24, ge=1, le=200)


class Posts(Schema):
    black: float
    white: float


class ScoutRow(Schema):
    """One candidate; `steps` make it, their names being proposals."""

    a: str
    b: str | None = None
    mode: str | None = None
    invert_a: bool
    invert_b: bool
    separation: float
    fisher: float
    edge_kept: float
    noise: float
    direction: str
    stretch: Posts
    words: str
    steps: list[dict[str, Any]]


class UnmarkedRow(Schema):
    """A kind of place that no mark is near to in colour: its share, its middle, its display-encoded mean."""

    share: float
    x: float
    y: float
    colour: list[float]


class Scouted(Schema):
    """`whole` are the steps that make a whole matte from the same marks."""

    tried: int
    rows: list[ScoutRow]
    unmarked: list[UnmarkedRow]
    whole: list[dict[str, Any]]


class ScreenAsk(Ask):
    address: str


class ScreenRow(Schema):
    """The coloured screen that a picture stands before: how much of it is bare, how far its light goes up and down, its
    noise as a share of its light; `steps` make the whole matte."""

    screen: str
    bare: float
    uneven: float
    noise: float
    steps: list[dict[str, Any]]


class DoubtAsk(Ask):
    item: str
    page: str = Field("", max_length=100, description="Name of the asking page: what it wants no more, others may")


class DoubtRow(Schema):
    """A place where a matte is unsure, in full-resolution pixels; `doubt`: the mean standard deviation of its alpha."""

    x: int
    y: int
    width: int
    height: int
    doubt: float


class Doubts(Schema):
    """Where a whole matte is unsure, the worst first, and the part of the picture that is."""

    places: list[DoubtRow]
    share: float


class ByHand(Schema):
    """A chain built by hand instead, and the part of the picture where it differs by more than a tenth."""

    steps: list[dict[str, Any]]
    share: float


class Rebuilt(Schema):
    """How far the shot that a matte gives back is off, in units of its noise: the mean, the 99.9th percentile, the
    part of the picture above three; and the steps that show it, the last but one the rebuilt shot."""

    mean: float
    worst: float
    share: float
    steps: list[dict[str, Any]]
    by_hand: ByHand | None


class ThinParts(Schema):
    """How many parts are narrower than 3 px, how many of them a step loses, and where: x, y, width, height."""

    thin: int
    lost: int
    boxes: list[list[int]]


class SlowRow(Schema):
    """A slow result of the shot: waiting, working, done, stopped or failed; `done` from 0 to 1."""

    item: str
    digest: str
    state: str
    done: float
    problem: Problem | None = None


@router.put("/shots/{shot_id}/marks", response=Marks)
def keep_marks(request: HttpRequest, shot_id: int, new: NewMarks) -> Marks:
    """Keep the marks with the shot. They are no part of its recipe. What comes later than what the same page sent
    after it changes nothing."""
    shot = get_shot(request, shot_id, write=True)
    overtaken = Q(marks_page=new.page, marks_turn__gte=new.turn) if new.page else Q(pk__in=[])
    Shot.objects.filter(pk=shot.pk).exclude(overtaken).update(
        marks=[mark.dict() for mark in new.marks], marks_page=new.page, marks_turn=new.turn
    )
    return new


@router.post("/shots/{shot_id}/scout", response=Scouted)
def scout(request: HttpRequest, shot_id: int, ask: ScoutAsk) -> dict[str, Any]:
    """Candidates for a matte, ranked by how well they part the marked subject from the marked background."""
    planned = plan_of(seen_shot(request, shot_id), ask)
    found = core.scout(
        engine(),
        planned,
        planned.feed(ask.address),
        **sides(ask.marks),
        ink=ask.ink,
        rows=ask.rows,
        cancellation=newest(request, shot_id, "scout"),
    )
    rows = [row | {"steps": core.steps_of(row, ask.address)} for row in found["rows"]]
    return found | {"rows": rows, "whole": core.whole_matte(ask.address, **sides(ask.marks))}


@router.post("/shots/{shot_id}/screen", response=ScreenRow | None)
def screen(request: HttpRequest, shot_id: int, ask: ScreenAsk) -> dict[str, Any] | None:
    """The coloured screen that a picture stands before, if it does."""
    planned = plan_of(seen_shot(request, shot_id), ask)
    found = screen_facts(engine(), planned, planned.feed(ask.address))
    return asdict(found) | {"steps": whole_matte(ask.address)} if found else None


@router.post("/shots/{shot_id}/doubts", response=Doubts | None)
def doubts(request: HttpRequest, shot_id: int, ask: DoubtAsk) -> dict[str, Any] | None:
    """Where a whole matte is unsure of itself, worked out in the background: `pending` until it is there.

    Of a viewer's it is the saved recipe. Nothing is told of steps that know no doubt.
    """

    def known(planned: Plan) -> bool:
        return doubtful(planned.recipe.step(ask.item)) is not None

    return _worked_out(request, shot_id, ask, "doubts", known)


def _worked_out(
    request: HttpRequest, shot_id: int, ask: DoubtAsk, kind: str, known: Callable[[Plan], bool]
) -> dict[str, Any] | None:
    """The answer to a question about an item, None where there is none to be had."""
    shot = get_shot(request, shot_id)
    planned = plan_of(shot, ask if may_write(request, shot) else Ask(frame=ask.frame))
    if not known(planned):
        return None
    digest = hashlib.sha256(f"{kind} {planned.node(ask.item).digest}".encode()).hexdigest()
    question = {"kind": kind, "item": ask.item}
    item = f"{kind} of {ask.item}"[:63]
    return slow_steps.answered(shot, _who(request, ask.page), planned, item, digest, question)


def _doubts(planned: Plan, question: dict[str, Any], cancellation: Cancellation) -> dict[str, Any]:
    return core_doubts(engine(), planned, question["item"], cancellation)


slow_steps.QUESTIONS["doubts"] = _doubts


@router.post("/shots/{shot_id}/rebuilt", response=Rebuilt | None)
def rebuilt(request: HttpRequest, shot_id: int, ask: DoubtAsk) -> dict[str, Any] | None:
    """What a matte's shot looks like when it is rebuilt from it, and how far that is off: a proof that needs no truth.

    Worked out in the background: `pending` until it is there. Of a viewer's it is the saved recipe.
    """

    def known(planned: Plan) -> bool:
        # A step whose background is not known is told so.
        return planned.recipe.step(ask.item) is not None and bool(rebuilding(planned, ask.item))

    return _worked_out(request, shot_id, ask, "rebuilt", known)


def _rebuilt(planned: Plan, question: dict[str, Any], cancellation: Cancellation) -> dict[str, Any]:
    return core_rebuilt(engine(), planned, question["item"], cancellation)


slow_steps.QUESTIONS["rebuilt"] = _rebuilt


@router.post("/shots/{shot_id}/thin", response=ThinParts)
def thin_parts(request: HttpRequest, shot_id: int, ask: StepAsk) -> dict[str, Any]:
    """Thin parts of a matte that a step makes vanish."""
    planned = plan_of(seen_shot(request, shot_id), ask)
    step = planned.recipe.step(ask.item)
    address = step.inputs.get("from") if step else None
    if not isinstance(address, str):
        raise RecipeError("has no matte coming in", where=f"step '{ask.item}'", remedy="choose a step fed by a matte")
    before, after = planned.feed(address), planned.feed(ask.item)
    if not (before.description.is_plane and after.description.is_plane):
        return {"thin": 0, "lost": 0, "boxes": []}
    domain = str((step.settings if step else {}).get("domain", "display"))
    return core_thin_parts(engine(), planned, before, after, domain, **sides(ask.marks))


@router.get("/shots/{shot_id}/slow", response=list[SlowRow])
def slow(request: HttpRequest, shot_id: int) -> list[SlowRow]:
    """The slow work of a shot, and how far it is."""
    return [_slow_row(result) for result in slow_steps.of(get_shot(request, shot_id))]


class SlowAsk(Ask):
    address: str
    page: str = Field("", max_length=100, description="Name of the asking page: what it wants no more, others may")


class SlowStarted(Schema):
    """The slow work of the shot, and the digest of the result that is waited for; empty where all is there."""

    digest: str
    rows: list[SlowRow]


def _who(request: HttpRequest, page: str) -> str:
    return f"{request.session.session_key} {page}"


@router.post("/shots/{shot_id}/slow", response=SlowStarted)
def start_slow(request: HttpRequest, shot_id: int, ask: SlowAsk) -> SlowStarted:
    """Compute what an address waits for: the slow steps behind it that are not computed yet, one after the other.

    For a viewer that of the saved recipe: what an artist works on is begun and ended by artists.
    """
    shot = get_shot(request, shot_id)
    planned = plan_of(shot, ask if may_write(request, shot) else Ask(frame=ask.frame))
    pending = _pending(planned, ask.address)
    if pending is not None:
        who = _who(request, ask.page)
        slow_steps.start(shot, who, planned.recipe, planned.frame, pending.item, pending.digest)
    rows = [_slow_row(result) for result in slow_steps.of(shot)]
    return SlowStarted(digest=pending.digest if pending else "", rows=rows)


@router.delete("/shots/{shot_id}/slow/{item}", response=list[SlowRow])
def stop_slow(request: HttpRequest, shot_id: int, item: str, page: str = "") -> list[SlowRow]:
    """Give up the slow work of a step, unless somebody else wants it."""
    shot = get_shot(request, shot_id, write=True)
    slow_steps.stop(shot, item, _who(request, page))
    return [_slow_row(result) for result in slow_steps.of(shot)]


def _pending(planned: Plan, address: str) -> Pending | None:
    """The first slow result that an address waits for, None where there is none."""
    feed = planned.feed(address)
    window = feed.description.window
    try:
        engine().evaluate(feed, planned, region=Window(window.x, window.y, 1, 1), patient=False)
    except Pending as pending:
        return pending
    return None


def _slow_row(result: SlowResult) -> SlowRow:
    problem = Problem(**result.problem) if result.problem else None
    return SlowRow(item=result.item, digest=result.digest, state=result.state, done=result.done, problem=problem)
