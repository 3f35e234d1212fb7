"""Routes: import files, follow their unpacking, their channels."""

from typing import Any, get_args

from django.conf import settings
from django.http import Http404, HttpRequest, HttpResponse
from ninja import Field, File, Form, Router, Schema
from ninja.files import UploadedFile
from pydantic import BaseModel

from config.errors import Problem
from nexal.recipe import FrameNumber, RoleName, SourceVersion
from nexal.session import MANIFEST_BYTES
from nexal.timing import runs
from projects.access import get_shot, person
from projects.models import Shot
from sources import sequences, services
from sources.models import Source, SourceState
from sources.services import add_manifest, import_file, reassemble_files, shown_frame, stored, unpack_again
from sources.tickets import ticket, too_large

router = Router()


class FrameProblem(Schema):
    number: int
    problem: Problem


class VersionRow(Schema):
    """A version of a source, and the numbers of the frames that came with it."""

    version: int
    numbers: list[list[int]]


class Frames(Schema):
    """The frames of a source of many, by their files' numbers."""

    numbers: list[list[int]] = Field(description="Numbers that are there, as ranges: first and last of each")
    count: int
    ready: int
    rate: float | None = Field(description="Frames a second, where the file says so")
    failed: list[FrameProblem] = Field(description="Frames that could not be read, 50 at the most")
    version: int = Field(description="The newest of its versions")
    versions: list[VersionRow] = Field(description="Those after the first, with the frames that differ")


class SourceRow(Schema):
    id: int
    files: str
    size: int
    fingerprint: str
    state: SourceState
    problem: Problem | None
    format: str = ""
    warnings: list[str] = []
    frames: Frames | None = None
    done: int = Field(0, description="Channels unpacked")
    channels: int = Field(0, description="Channels in all; 0 until the header is read")


# Of these there may be thousands in an answer: they are read from texts of our own, not looked for in rows of the
# database, which takes most of the time of a Schema.
class Histogram(BaseModel):
    low: float
    high: float
    encoded: bool
    counts: list[int]


class Report(BaseModel):
    min: float
    max: float
    mean: float
    percentiles: dict[str, float]
    histogram: Histogram
    noise: float
    non_finite: float


class ChannelRow(BaseModel):
    name: str
    type: str
    role: str
    colour: bool
    report: Report | None


class LayerRow(BaseModel):
    name: str
    role: str
    reason: str
    channels: list[str]


class SourceWhole(SourceRow):
    layers: list[LayerRow]
    roles: list[str] = Field(list(get_args(RoleName)), description="What a layer may be told to be")
    channel_rows: list[ChannelRow]
    parts: list[dict[str, Any]]
    metadata: dict[str, Any]


def _frames(source: Source) -> Frames | None:
    if not source.numbered:
        return None
    standing = source.frames.standing()
    rows = list(standing.values_list("number", "state"))
    failed = standing.filter(state=SourceState.FAILED)[:50]
    later: dict[int, list[int]] = {}
    if source.version > 1:
        for number, version in source.frames.filter(version__gt=1).values_list("number", "version"):
            later.setdefault(version, []).append(number)
    return Frames(
        numbers=[list(run) for run in runs([number for number, _ in rows])],
        count=len(rows),
        rate=source.rate,
        ready=sum(state == SourceState.READY for _, state in rows),
        failed=[FrameProblem(number=frame.number, problem=Problem(**frame.problem)) for frame in failed],
        version=source.version,
        versions=[
            VersionRow(version=version, numbers=[list(run) for run in runs(numbers)])
            for version, numbers in sorted(later.items())
        ],
    )


def _row(source: Source) -> dict[str, Any]:
    shown = shown_frame(source)
    file = stored(shown) if shown else None
    row: dict[str, Any] = {
        "id": source.pk,
        "files": source.files,
        "size": source.size,
        "fingerprint": source.fingerprint,
        "state": source.state,
        "problem": source.problem or None,
        "frames": _frames(source),
    }
    if source.state != SourceState.FAILED and file is not None and file.started:
        names = list(file.channels)
        done = len(names) if source.state == SourceState.READY else sum(file.ready(name) for name in names)
        row |= {
            "format": file.header["format"],
            "warnings": file.header["warnings"],
            "done": done,
            "channels": len(names),
        }
    return row


def source_rows(shot: Shot) -> list[SourceRow]:
    return [SourceRow(**_row(source)) for source in shot.sources.all()]


@router.post("/shots/{shot_id}/sources", response=SourceRow)
def upload(request: HttpRequest, shot_id: int, file: File[UploadedFile]) -> SourceRow:
    """Import a file into a shot. It is unpacked in the background; follow its state."""
    shot = get_shot(request, shot_id, write=True)
    _check_size(file)
    return SourceRow(**_row(import_file(shot, file.name or "picture", file)))


def _check_size(file: UploadedFile) -> None:
    if (file.size or 0) > settings.NEXAL_UPLOAD_BYTES:
        raise too_large(file.name or "")


class TicketAsk(Schema):
    bytes: int = Field(ge=0, description="Size of the file, or of all files that are sent together")


class Ticket(Schema):
    """Goes into the header X-Nexal-Upload of the upload."""

    ticket: str


@router.post("/shots/{shot_id}/upload-tickets", response=Ticket)
def upload_ticket(request: HttpRequest, shot_id: int, ask: TicketAsk) -> Ticket:
    """Leave to send a large file: who may, how large, and whether there is room, is looked at before it comes."""
    shot = get_shot(request, shot_id, write=True)
    return Ticket(ticket=ticket(shot.pk, person(request), ask.bytes))


class Reassembled(Schema):
    """The source that channel files made, and what is worth telling about them."""

    source: SourceRow
    told: list[str]


@router.post("/shots/{shot_id}/sources/reassembled", response=Reassembled)
def reassemble(request: HttpRequest, shot_id: int, files: File[list[UploadedFile]]) -> Reassembled:
    """Put the channel files of a picture together again, by the manifest that was written with them."""
    shot = get_shot(request, shot_id, write=True)
    for file in files:
        _check_size(file)
    source, told = reassemble_files(shot, files)
    return Reassembled(source=SourceRow(**_row(source)), told=told)


@router.post("/shots/{shot_id}/sources/manifest", response=Reassembled)
def manifest(request: HttpRequest, shot_id: int, file: File[UploadedFile]) -> Reassembled:
    """Names of ids from a file that came with a picture, for the source whose header asks for it."""
    shot = get_shot(request, shot_id, write=True)
    if (file.size or 0) > MANIFEST_BYTES:
        raise too_large(file.name or "")
    source, wanted = add_manifest(shot, file.name or "", file.read())
    return Reassembled(source=SourceRow(**_row(source)), told=[f"{wanted}: names for the ids of {source.files}"])


@router.get("/shots/{shot_id}/sources", response=list[SourceRow])
def sources(request: HttpRequest, shot_id: int) -> list[SourceRow]:
    """Everything imported into a shot, used in its recipe or not."""
    return source_rows(get_shot(request, shot_id))


@router.post("/shots/{shot_id}/sources/{source_id}/again", response=SourceRow)
def again(request: HttpRequest, shot_id: int, source_id: int) -> SourceRow:
    """Unpack a source once more that could not be."""
    found = _find(get_shot(request, shot_id, write=True), source_id)
    unpack_again(found)
    return SourceRow(**_row(found))


@router.delete("/shots/{shot_id}/sources/{source_id}", response={204: None})
def remove(request: HttpRequest, shot_id: int, source_id: int) -> HttpResponse:
    """Delete a source that the recipe does not read, with its file."""
    services.remove(_find(get_shot(request, shot_id, write=True), source_id))
    return HttpResponse(status=204)


def _find(shot: Shot, source_id: int) -> Source:
    found = shot.sources.filter(pk=source_id).first()
    if found is None:
        raise Http404
    return found


class NewSequence(Schema):
    files: str = Field(max_length=200, description="The pattern of their names, such as moth.%04d.exr")


@router.post("/shots/{shot_id}/sequences", response=SourceRow)
def start_sequence(request: HttpRequest, shot_id: int, new: NewSequence) -> SourceRow:
    """A source of many numbered files, which are added one by one."""
    return SourceRow(**_row(sequences.create(get_shot(request, shot_id, write=True), new.files)))


class TakenFrame(Schema):
    """The source of a frame, and what that was beside the one that stood there."""

    source: SourceRow
    taken: sequences.Taken


@router.post("/shots/{shot_id}/sources/{source_id}/frames", response=TakenFrame)
def add_frame(
    request: HttpRequest,
    shot_id: int,
    source_id: int,
    number: Form[FrameNumber],
    file: File[UploadedFile],
    into: Form[SourceVersion | None] = None,
) -> TakenFrame:
    """Add a numbered file to a source of many, or a repaired one beside that which is there. It is unpacked in the
    background."""
    found = _find(get_shot(request, shot_id, write=True), source_id)
    _check_size(file)
    taken = sequences.add_frame(found, number, file, into)
    found.refresh_from_db()
    return TakenFrame(source=SourceRow(**_row(found)), taken=taken)


@router.get("/shots/{shot_id}/sources/{source_id}", response=SourceWhole)
def source(request: HttpRequest, shot_id: int, source_id: int, frame: int | None = None) -> HttpResponse:
    """A source with its layers and channels, of many frames those of one; a channel has its report once it is
    unpacked."""
    found = _find(get_shot(request, shot_id), source_id)
    shown = shown_frame(found, frame)
    file = stored(shown or found)
    whole = _row(found) | {"layers": [], "channel_rows": [], "parts": [], "metadata": {}}
    if shown is not None and file.started and shown.state != SourceState.FAILED:
        whole |= {
            "layers": file.header["layers"],
            "parts": file.header["parts"],
            "metadata": file.header["metadata"],
            "channel_rows": [
                ChannelRow(**row, report=Report.model_validate_json(text) if text else None)
                for row, text in ((row, file.report_if_ready(name)) for name, row in file.channels.items())
            ],
        }
    # Checked and written once, not once more by the router: it may have a thousand channels.
    return HttpResponse(SourceWhole(**whole).model_dump_json(), content_type="application/json; charset=utf-8")
