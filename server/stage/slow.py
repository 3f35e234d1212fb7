"""Slow operations computed in the background: one job for each result, whoever wants it and in whichever process.

Who wants a newer result of the same step wants the older one no more; what nobody wants any more is given up. What
somebody else wants goes on: two people with different drafts of one step do not take each other's work away.
"""

import logging
import threading
from collections.abc import Callable
from datetime import timedelta
from typing import Any

from django.conf import settings
from django.db import connection, transaction
from django.utils import timezone

from config.errors import Problem, Refused, problem_of
from jobs import services as jobs
from nexal.engine import Cancellation, Plan
from nexal.engine.plan import Feed
from nexal.errors import Cancelled, NexalError, Pending
from nexal.picture import Window
from nexal.recipe import Recipe, parse_recipe
from nexal.work import working
from projects.models import Shot
from stage.models import SlowResult, SlowState
from stage.services import engine, plan
from stage.work import JobWork

log = logging.getLogger("nexal.slow")

LOOK_SECONDS = 0.25
KEPT_FOR = timedelta(days=1)
ON_ITS_WAY = (SlowState.WAITING, SlowState.WORKING)


QUESTIONS: dict[str, Callable[[Plan, dict[str, Any], Cancellation], dict[str, Any]]] = {}
"""What answers a question that takes long, by its kind; registered by the routes that ask."""


def answered(shot: Shot, who: str, planned: Plan, item: str, digest: str, question: dict[str, Any]) -> dict[str, Any]:
    """The answer to a question (its `kind`, and what that wants), which is worked out in the background.

    Raises Pending until it is there, and Refused where it cannot be.
    """
    known = SlowResult.objects.filter(shot=shot, digest=digest).first()
    if known is None or known.state not in (SlowState.DONE, SlowState.FAILED) or not (known.answer or known.problem):
        start(shot, who, planned.recipe, planned.frame, item, digest, question)
        known = SlowResult.objects.get(shot=shot, digest=digest)
    if known.state == SlowState.DONE:
        answer: dict[str, Any] = known.answer
        return answer
    if known.state == SlowState.FAILED:
        raise Refused(422, **{key: known.problem[key] for key in ("code", "message", "where", "remedy")})
    raise Pending(item, digest)


def start(
    shot: Shot,
    who: str,
    recipe: Recipe,
    frame: int,
    item: str,
    digest: str,
    question: dict[str, Any] | None = None,
) -> SlowResult:
    """Begin for a page, unless that very result is on its way or was refused as it stands."""
    with transaction.atomic():
        # One at a time for a shot: who wants what has to be counted right.
        Shot.objects.select_for_update().get(pk=shot.pk)
        _leave(shot, item, who, but=digest)
        known = SlowResult.objects.filter(shot=shot, digest=digest).first()
        if known and known.state in (*ON_ITS_WAY, SlowState.FAILED):
            if who not in known.wanted_by:
                known.wanted_by = [*known.wanted_by, who]
                known.save(update_fields=["wanted_by"])
            return known
        ended = SlowResult.objects.filter(shot=shot, updated__lt=timezone.now() - KEPT_FOR)
        ended.exclude(state__in=ON_ITS_WAY).delete()
        if known:
            known.delete()
        result = SlowResult.objects.create(
            shot=shot,
            item=item,
            digest=digest,
            recipe=recipe.as_json(),
            frame=frame,
            wanted_by=[who],
            question=question or {},
        )
    jobs.submit("slow", result.pk)
    return result


def stop(shot: Shot, item: str, who: str) -> None:
    """A page wants a step's result no more."""
    with transaction.atomic():
        Shot.objects.select_for_update().get(pk=shot.pk)
        _leave(shot, item, who)


def of(shot: Shot) -> list[SlowResult]:
    return list(SlowResult.objects.filter(shot=shot).defer("recipe"))


def _leave(shot: Shot, item: str, who: str, but: str = "") -> None:
    for result in SlowResult.objects.filter(shot=shot, item=item, state__in=ON_ITS_WAY).exclude(digest=but):
        if who in result.wanted_by:
            result.wanted_by = [other for other in result.wanted_by if other != who]
            result.state = result.state if result.wanted_by else SlowState.STOPPED
            result.save(update_fields=["wanted_by", "state", "updated"])


def work(pk: int) -> None:
    """Compute one result (a job)."""
    begun = SlowResult.objects.filter(pk=pk, state__in=ON_ITS_WAY).update(state=SlowState.WORKING)
    result = SlowResult.objects.select_related("shot").filter(pk=pk).first()
    if not begun or result is None:
        return
    with working(JobWork()):
        cancellation = Cancellation()
    over = threading.Event()
    watch = threading.Thread(target=_watch, args=(pk, cancellation, over), name="nexal-slow-watch", daemon=True)
    if settings.NEXAL_JOBS != "inline":
        watch.start()
    problem: Problem | None = None
    state = SlowState.DONE
    try:
        _compute(result, cancellation)
    except Cancelled:
        state = SlowState.STOPPED
    except NexalError as error:
        state, problem = SlowState.FAILED, problem_of(error.at(f"step '{result.item}'"))
    except Exception:
        log.exception("slow step %s of shot %s failed", result.item, result.shot_id)
        state, problem = SlowState.FAILED, _fault(result, "failed on the server", "see the server's log")
    finally:
        over.set()
        if watch.ident is not None:
            watch.join()
    done = 1.0 if state == SlowState.DONE else cancellation.done
    SlowResult.objects.filter(pk=pk).update(
        state=state, done=done, problem=problem.dict() if problem else {}, updated=timezone.now()
    )


def _compute(result: SlowResult, cancellation: Cancellation) -> None:
    planned = plan(result.shot, parse_recipe(result.recipe), result.frame)
    if result.question:
        answer = QUESTIONS[result.question["kind"]](planned, result.question, cancellation)
        SlowResult.objects.filter(pk=result.pk).update(answer=answer)
        return
    compute(planned, result.item, cancellation)


def compute(planned: Plan, item: str, cancellation: Cancellation | None = None) -> None:
    """A slow step's whole result, for whoever asks for it next. Raises NexalError."""
    node = planned.node(item)
    window = node.description.window
    feed = Feed(node, {name: name for name in node.description.channels}, node.description)
    engine().evaluate(feed, planned, region=Window(window.x, window.y, 1, 1), cancellation=cancellation)


def _watch(pk: int, cancellation: Cancellation, over: threading.Event) -> None:
    """Tell how far a result is, and whether anybody still wants it."""
    try:
        while not over.wait(LOOK_SECONDS):
            wanted = SlowResult.objects.filter(pk=pk).exclude(state=SlowState.STOPPED)
            if not wanted.update(done=cancellation.done, updated=timezone.now()):
                cancellation.cancel()
                return
    finally:
        connection.close()


def unfinished() -> list[int]:
    return list(SlowResult.objects.filter(state__in=ON_ITS_WAY).values_list("pk", flat=True))


def give_up(pk: int) -> None:
    """Say of a result that it is given up: it ended the server's process again and again."""
    result = SlowResult.objects.filter(pk=pk).first()
    if result:
        problem = _fault(result, "was cut off again and again", "make it smaller, such as by a narrower band")
        SlowResult.objects.filter(pk=pk).update(state=SlowState.FAILED, problem=problem.dict())


def _fault(result: SlowResult, message: str, remedy: str) -> Problem:
    return problem_of(NexalError(message, where=f"step '{result.item}'", remedy=remedy))
