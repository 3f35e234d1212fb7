"""Routes: deliverables, their renders, and the files that come of them."""

from datetime import datetime
from pathlib import Path
from typing import Annotated, Any, Literal

from django.http import FileResponse, Http404, HttpRequest, HttpResponse, StreamingHttpResponse
from django.utils.http import content_disposition_header
from ninja import Body, Field, Router, Schema

from config.errors import Problem, Refused
from deliveries import movies, services
from deliveries.models import Deliverable, Render, RenderState
from nexal.formats.targets import FORMATS
from nexal.recipe import FrameNumber, is_numbered
from projects.access import get_shot, person
from stage.requests import Ask, recipe_of

router = Router()


Step = Annotated[int, Field(ge=1, le=1000)]


class FormatRow(Schema):
    name: str
    suffix: str
    suffixes: list[str]
    depths: list[str]
    alpha: str
    compressions: list[str]


class FrameRow(Schema):
    frame: int
    state: RenderState
    error: Problem | None
    warnings: list[str] = Field(description="What was told while it was made")
    seconds: float
    file: str
    older: bool = Field(description="Made from older frames of a source than stand there now")
    kept: bool = Field(description="Its file is there. What was delivered before a house was restored is not")


class MovieRow(Schema):
    """The movie of a render's frames, for review."""

    state: RenderState
    problem: Problem | None


class RenderRow(Schema):
    id: int
    movie: MovieRow | None
    state: RenderState
    written: str = Field(description="What its files hold, in one line")
    revision: int
    created: datetime
    first_frame: int
    last_frame: int
    step: int
    frames: list[FrameRow]


class DeliverableRow(Schema):
    id: int
    name: str
    spec: dict[str, Any]
    render: RenderRow | None = Field(description="The newest render, if any")


class NewDeliverable(Schema):
    name: str
    spec: dict[str, Any]


def _render_row(render: Render) -> RenderRow:
    older = services.made_from_older(render)
    frames = [
        FrameRow(
            frame=frame.frame,
            state=RenderState(frame.state),
            error=Problem(**frame.error) if frame.error else None,
            warnings=frame.warnings,
            seconds=frame.seconds,
            file=frame.file.rpartition("/")[2],
            older=frame.frame in older,
            kept=frame.state == RenderState.DONE and services.frame_path(frame).is_file(),
        )
        for frame in render.frames.all()
    ]
    movie = None
    lost = render.movie_state == RenderState.DONE and not movies.movie_path(render.pk).is_file()
    if render.movie_state and not lost:
        problem = Problem(**render.movie_problem) if render.movie_problem else None
        movie = MovieRow(state=RenderState(render.movie_state), problem=problem)
    return RenderRow(
        id=render.pk,
        movie=movie,
        state=RenderState(render.state),
        written=render.written,
        revision=render.revision.number,
        created=render.created,
        first_frame=render.first_frame,
        last_frame=render.last_frame,
        step=render.step,
        frames=frames,
    )


def _row(deliverable: Deliverable) -> DeliverableRow:
    newest = deliverable.renders.select_related("revision").first()
    return DeliverableRow(
        id=deliverable.pk,
        name=deliverable.name,
        spec=deliverable.spec,
        render=_render_row(newest) if newest else None,
    )


def _find(request: HttpRequest, shot_id: int, deliverable_id: int, *, write: bool = False) -> Deliverable:
    shot = get_shot(request, shot_id, write=write)
    found = shot.deliverables.filter(pk=deliverable_id).first()
    if found is None:
        raise Http404
    return found


@router.get("/formats", response=list[FormatRow])
def formats(request: HttpRequest) -> list[FormatRow]:
    """The formats that are written, with their depths, compressions and the alpha that their standard wants."""
    return [
        FormatRow(
            name=name,
            suffix=known.suffixes[0],
            suffixes=list(known.suffixes),
            depths=list(known.depths),
            alpha=known.alpha.value,
            compressions=list(known.compressions),
        )
        for name, known in FORMATS.items()
    ]


@router.get("/shots/{shot_id}/deliverables", response=list[DeliverableRow])
def deliverables(request: HttpRequest, shot_id: int) -> list[DeliverableRow]:
    return [_row(entry) for entry in get_shot(request, shot_id).deliverables.all()]


@router.post("/shots/{shot_id}/deliverables", response=DeliverableRow)
def create(request: HttpRequest, shot_id: int, new: NewDeliverable) -> DeliverableRow:
    """Name a result to be written."""
    return _row(services.create(get_shot(request, shot_id, write=True), new.name, new.spec))


class AnnouncementAsk(Ask):
    """An output of a recipe, and the frames that it would be rendered at."""

    name: str = Field("", max_length=63)
    spec: dict[str, Any]
    first: FrameNumber = 1
    last: FrameNumber = 1
    step: Step = 1


class AnnouncementRow(Schema):
    line: str = Field(description="What the files will hold")
    same: bool = Field(description="All of several files would hold the same picture")


@router.post("/shots/{shot_id}/announcement", response=AnnouncementRow)
def announce(request: HttpRequest, shot_id: int, ask: AnnouncementAsk) -> AnnouncementRow:
    """What rendering an output would write."""
    shot = get_shot(request, shot_id)
    frames = services.frames_of(ask.spec.get("file", ""), ask.first, ask.last, ask.step)
    recipe = recipe_of(shot, ask)
    line = services.announcement(shot, recipe, ask.name, ask.spec, frames)
    return AnnouncementRow(line=line, same=services.is_still(shot, recipe, ask.spec, frames))


@router.put("/shots/{shot_id}/deliverables/{deliverable_id}", response=DeliverableRow)
def change(request: HttpRequest, shot_id: int, deliverable_id: int, spec: Body[dict[str, Any]]) -> DeliverableRow:
    """Write it differently from now on; what was rendered stays."""
    found = _find(request, shot_id, deliverable_id, write=True)
    output = services.checked_spec(spec)
    found.spec = output.model_dump(mode="json", by_alias=True, exclude_defaults=True)
    found.save(update_fields=["spec"])
    return _row(found)


@router.delete("/shots/{shot_id}/deliverables/{deliverable_id}", response={204: None})
def remove(request: HttpRequest, shot_id: int, deliverable_id: int) -> HttpResponse:
    """Forget a deliverable, what was rendered of it, and the files of that."""
    services.remove(_find(request, shot_id, deliverable_id, write=True))
    return HttpResponse(status=204)


class RenderAsk(Schema):
    """The frames to render; by default those of the shot."""

    first: FrameNumber | None = None
    last: FrameNumber | None = None
    step: Step = 1


@router.post("/shots/{shot_id}/deliverables/{deliverable_id}/renders", response=RenderRow)
def render(request: HttpRequest, shot_id: int, deliverable_id: int, ask: Body[RenderAsk | None] = None) -> RenderRow:
    """Render it from the shot's present revision."""
    found = _find(request, shot_id, deliverable_id, write=True)
    ask = ask or RenderAsk()
    first = found.shot.first_frame if ask.first is None else ask.first
    last = found.shot.last_frame if ask.last is None else ask.last
    if ask.first is None and ask.last is None and not is_numbered(found.spec["file"]):
        last = first
    started = services.start(found, person(request), first, last, ask.step)
    started.refresh_from_db()
    return _render_row(started)


def _find_render(request: HttpRequest, shot_id: int, render_id: int, *, write: bool = False) -> Render:
    shot = get_shot(request, shot_id, write=write)
    found = Render.objects.select_related("revision").filter(pk=render_id, deliverable__shot=shot).first()
    if found is None:
        raise Http404
    return found


class RenderChange(Schema):
    """What is to become of a render: `pause`, `cancel`, `resume`, a frame made `again`, or a render of what is now, in
    which only what was made of `older` frames is rendered."""

    wish: Literal["pause", "cancel", "resume", "again", "older"]
    frame: FrameNumber | None = None


@router.post("/shots/{shot_id}/renders/{render_id}", response=RenderRow)
def change_render(request: HttpRequest, shot_id: int, render_id: int, ask: RenderChange) -> RenderRow:
    """Pause or cancel a render, go on with it, or make one of its frames, or what is of older ones, again."""
    found = _find_render(request, shot_id, render_id, write=True)
    match ask.wish:
        case "pause":
            services.stop(found, RenderState.PAUSED)
        case "cancel":
            services.stop(found, RenderState.CANCELLED)
        case "resume":
            services.go_on(found)
        case "again":
            services.go_on(found, ask.frame)
        case "older":
            found = services.make_older_again(found, person(request))
    found.refresh_from_db()
    return _render_row(found)


class MovieAsk(Schema):
    rate: float = Field(24, description="Frames a second")
    numbers: bool = Field(True, description="Each frame's number is seen in it")


@router.post("/shots/{shot_id}/renders/{render_id}/movie", response=RenderRow)
def make_movie(request: HttpRequest, shot_id: int, render_id: int, ask: MovieAsk) -> RenderRow:
    """Have a movie made of the frames that are done, for review."""
    found = _find_render(request, shot_id, render_id, write=True)
    movies.wish(found, ask.rate, ask.numbers)
    found.refresh_from_db()
    return _render_row(found)


@router.get("/shots/{shot_id}/renders/{render_id}/movie")
def movie(request: HttpRequest, shot_id: int, render_id: int) -> FileResponse:
    """The movie, once it is there."""
    found = _find_render(request, shot_id, render_id)
    path = movies.movie_path(found.pk)
    if not path.is_file():
        raise Http404
    return FileResponse(path.open("rb"), content_type="video/webm", filename=f"{found.deliverable.name}.webm")


@router.get("/shots/{shot_id}/renders/{render_id}/files")
def all_files(request: HttpRequest, shot_id: int, render_id: int) -> StreamingHttpResponse:
    """The files of the frames that are done, as one archive."""
    found = _find_render(request, shot_id, render_id)
    return _archive(services.files_of(found), found.deliverable.name)


@router.get("/shots/{shot_id}/renders/{render_id}/file")
def file(request: HttpRequest, shot_id: int, render_id: int, frame: int | None = None) -> FileResponse:
    """The file of one rendered frame, by default of the first."""
    frames = _find_render(request, shot_id, render_id).frames.filter(state=RenderState.DONE)
    found = (frames if frame is None else frames.filter(frame=frame)).first()
    if found is None or not services.frame_path(found).is_file():
        raise Http404
    path = services.frame_path(found)
    return FileResponse(path.open("rb"), as_attachment=True, filename=path.name)


@router.get("/shots/{shot_id}/delivered")
def files(request: HttpRequest, shot_id: int) -> StreamingHttpResponse:
    """The files of the newest render of each deliverable that is done, as one archive."""
    shot = get_shot(request, shot_id)
    return _archive(services.newest_files(shot), shot.name)


def _archive(files: list[tuple[str, Path]], name: str) -> StreamingHttpResponse:
    if not files:
        raise Refused(404, "nothing", "nothing is rendered yet", where="deliverables", remedy="render one first")
    answer = StreamingHttpResponse(services.archived(files), content_type="application/zip")
    answer["Content-Disposition"] = content_disposition_header(True, f"{name}.zip") or ""
    return answer
