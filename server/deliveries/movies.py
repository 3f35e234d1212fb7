"""Review movies of renders: made of the frames that are done, by a job."""

from collections.abc import Iterator
from pathlib import Path
from typing import Any

from config.errors import Refused, problem_of
from deliveries.models import Render, RenderedFrame, RenderState
from deliveries.services import INTERNAL, frame_path, render_folder
from jobs import services as jobs
from nexal.analysis.review import Seen, as_seen, write_movie
from nexal.errors import NexalError
from nexal.formats.reading import DefaultSpec, StoredSource
from nexal.formats.store import fingerprint
from nexal.work import working
from projects.news import RENDERS, tell
from sources.services import library
from stage.work import JobWork


def movie_path(render: int) -> Path:
    return render_folder(render) / "review.webm"


def wish(render: Render, rate: float, numbers: bool) -> None:
    """Have a movie made of the frames that are done. Raises Refused where none is."""
    if not render.frames.filter(state=RenderState.DONE).exists():
        raise Refused(409, "nothing", "no frame is done yet", where="movie", remedy="wait for the first")
    if not 1 <= rate <= 240:
        raise Refused(422, "rate", f"{rate:g} frames a second can't be played", where="rate", remedy="give 1 to 240")
    Render.objects.filter(pk=render.pk).update(
        movie_state=RenderState.WAITING, movie_rate=rate, movie_numbers=numbers, movie_problem={}
    )
    jobs.submit("movie", render.pk)


def make(render_id: int) -> None:
    """Make the movie of a render (a job)."""
    row = Render.objects.filter(pk=render_id)
    render = row.select_related("deliverable").first()
    if render is None or render.movie_state not in (RenderState.WAITING, RenderState.RENDERING):
        return
    row.update(movie_state=RenderState.RENDERING)
    work = JobWork()
    state: RenderState = RenderState.DONE
    problem: dict[str, Any] = {}
    try:
        with working(work):
            pictures = _pictures(render)
            write_movie(pictures, movie_path(render_id), render.movie_rate, render.movie_numbers, work.check)
    except NexalError as error:
        state, problem = RenderState.FAILED, problem_of(error).dict()
    except Exception:
        row.update(movie_state=RenderState.FAILED, movie_problem=INTERNAL)
        raise
    row.update(movie_state=state, movie_problem=problem)
    tell(render.deliverable.shot_id, RENDERS)


def _pictures(render: Render) -> Iterator[tuple[int, Seen]]:
    for frame in render.frames.filter(state=RenderState.DONE):
        yield frame.frame, _seen(frame)


def _seen(frame: RenderedFrame) -> Seen:
    path = frame_path(frame)
    digest = fingerprint(path)
    with library().using([digest]):
        return as_seen(StoredSource(library().unpack(path, digest, lean=True), DefaultSpec(), digest))


def unfinished() -> list[int]:
    states = [RenderState.WAITING, RenderState.RENDERING]
    return list(Render.objects.filter(movie_state__in=states).values_list("pk", flat=True))


def give_up(render_id: int) -> None:
    Render.objects.filter(pk=render_id).update(
        movie_state=RenderState.FAILED,
        movie_problem=INTERNAL | {"code": "given_up", "message": "making the movie was cut off again and again"},
    )
