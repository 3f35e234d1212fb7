"""Routes: deliverables, their renders, and the files that come of them."""

from datetime import datetime
from typing import Any

from django.http import FileResponse, Http404, HttpRequest, HttpResponse, StreamingHttpResponse
from django.utils.http import content_disposition_header
from ninja import Body, Field, Router, Schema

from config.errors import Problem, Refused
from deliveries import services
from deliveries.models import Deliverable, Render, RenderState
from nexal.formats.targets import FORMATS
from projects.access import get_shot, person

router = Router()


class FormatRow(Schema):
    name: str
    suffix: str
    depths: list[str]
    alpha: str
    compressions: list[str]


class FrameRow(Schema):
    frame: int
    state: RenderState
    error: Problem | None
    seconds: float
    file: str


class RenderRow(Schema):
    id: int
    state: RenderState
    revision: int
    created: datetime
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
    frames = [
        FrameRow(
            frame=frame.frame,
            state=RenderState(frame.state),
            error=Problem(**frame.error) if frame.error else None,
            seconds=frame.seconds,
            file=frame.file.rpartition("/")[2],
        )
        for frame in render.frames.all()
    ]
    return RenderRow(
        id=render.pk,
        state=RenderState(render.state),
        revision=render.revision.number,
        created=render.created,
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


@router.post("/shots/{shot_id}/deliverables/{deliverable_id}/renders", response=RenderRow)
def render(request: HttpRequest, shot_id: int, deliverable_id: int) -> RenderRow:
    """Render it from the shot's present revision."""
    found = _find(request, shot_id, deliverable_id, write=True)
    started = services.start(found, person(request))
    started.refresh_from_db()
    return _render_row(started)


@router.get("/shots/{shot_id}/renders/{render_id}/file")
def file(request: HttpRequest, shot_id: int, render_id: int, frame: int = 1) -> FileResponse:
    """The file of one rendered frame."""
    shot = get_shot(request, shot_id)
    render = Render.objects.filter(pk=render_id, deliverable__shot=shot).first()
    found = render.frames.filter(frame=frame, state=RenderState.DONE).first() if render else None
    if found is None or not services.frame_path(found).is_file():
        raise Http404
    path = services.frame_path(found)
    return FileResponse(path.open("rb"), as_attachment=True, filename=path.name)


@router.get("/shots/{shot_id}/delivered")
def files(request: HttpRequest, shot_id: int) -> StreamingHttpResponse:
    """The files of the newest render of each deliverable that is done, as one archive."""
    shot = get_shot(request, shot_id)
    found = services.newest_files(shot)
    if not found:
        raise Refused(404, "nothing", "nothing is rendered yet", where="deliverables", remedy="render one first")
    answer = StreamingHttpResponse(services.archived(found), content_type="application/zip")
    answer["Content-Disposition"] = content_disposition_header(True, f"{shot.name}.zip") or ""
    return answer
