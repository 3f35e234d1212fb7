"""Routes: the shots of a project, a shot started, and opened with the recipe that it shows."""

from collections.abc import Sequence
from dataclasses import asdict
from datetime import datetime

from django.db import IntegrityError, transaction
from django.http import HttpRequest
from ninja import Field, Router, Schema

from config.errors import Refused
from config.names import plain_name
from nexal.recipe import FrameNumber
from notes.services import open_counts
from projects.access import get_project, get_shot, person, role_in
from projects.api import NewName
from projects.models import Shot, ShotState
from projects.news import since as news_since
from recipes.away import look
from recipes.rows import RevisionWhole, picture_of, whole
from recipes.services import first_revision
from sources import ranges
from sources.api import SourceRow, source_rows
from stage.requests import MarkRow
from tags.services import tags_of

router = Router()


class ShotRow(Schema):
    id: int
    name: str
    revision: int | None
    changed: datetime | None
    picture: str | None = Field(description="The item that stands for the shot on the wall")
    frame: int = Field(description="The frame that it is shown at there")
    state: ShotState
    archived: bool
    tags: list[str]
    notes: int = Field(description="How many of its notes are open")


class AwayRow(Schema):
    since: int = Field(description="Number of the revision that was seen last")
    revisions: int
    authors: list[str]


class ShotWhole(Schema):
    id: int
    name: str
    project: int
    project_name: str
    role: str
    first_frame: int
    last_frame: int
    own_range: bool = Field(description="A person set the range; else it is that of the moving sources")
    head: RevisionWhole
    sources: list[SourceRow]
    marks: list[MarkRow]
    away: AwayRow | None = Field(description="What others saved since the person looked last")


@router.get("/projects/{project_id}/shots", response=list[ShotRow])
def shots(request: HttpRequest, project_id: int) -> list[ShotRow]:
    """The shots of a project, as a wall shows them."""
    rows = list(get_project(request, project_id).shots.filter(deleted=None).select_related("head"))
    return shot_rows(rows)


def name_taken(name: str) -> Refused:
    """The fault of a name that another shot of the project has."""
    return Refused(409, "name_taken", f"there is a shot '{name}' already", where="name", remedy="choose another name")


@router.post("/projects/{project_id}/shots", response=ShotRow)
def create_shot(request: HttpRequest, project_id: int, new: NewName) -> ShotRow:
    """Start an empty shot."""
    project, name = get_project(request, project_id, write=True), plain_name(new.name)
    try:
        with transaction.atomic():
            shot = Shot.objects.create(project=project, name=name)
            first_revision(shot, person(request))
    except IntegrityError:
        raise name_taken(name) from None
    return shot_row(shot)


class Range(Schema):
    first: FrameNumber
    last: FrameNumber


class NewsRow(Schema):
    number: int = Field(description="To ask with the next time")
    what: list[str] = Field(description="What changed since: revision, sources, renders, notes")
    head: int = Field(description="Number of the revision that the shot shows")


@router.get("/shots/{shot_id}/news", response=NewsRow)
def news(request: HttpRequest, shot_id: int, since: int = 0) -> NewsRow:
    """What changed in a shot since a number; 0 begins."""
    shot = get_shot(request, shot_id)
    number, what = news_since(shot.pk, since)
    return NewsRow(number=number, what=what, head=shot.head.number if shot.head else 0)


@router.put("/shots/{shot_id}/range", response=Range)
def set_range(request: HttpRequest, shot_id: int, new: Range) -> Range:
    """The frames that a shot is worked on and delivered over."""
    shot = get_shot(request, shot_id, write=True)
    if new.first > new.last:
        raise Refused(
            422,
            "range",
            f"frames {new.first} to {new.last} are none",
            where="range",
            remedy="give the first before the last",
        )
    Shot.objects.filter(pk=shot.pk).update(first_frame=new.first, last_frame=new.last, own_range=True)
    return new


@router.delete("/shots/{shot_id}/range", response=Range)
def follow_sources(request: HttpRequest, shot_id: int) -> Range:
    """Let the range be that of the moving sources again, and follow them."""
    shot = get_shot(request, shot_id, write=True)
    Shot.objects.filter(pk=shot.pk).update(own_range=False)
    ranges.follow(shot.pk)
    shot.refresh_from_db()
    return Range(first=shot.first_frame, last=shot.last_frame)


@router.get("/shots/{shot_id}", response=ShotWhole)
def shot(request: HttpRequest, shot_id: int) -> ShotWhole:
    """A shot with the recipe it shows and everything imported into it."""
    found = get_shot(request, shot_id)
    assert found.head is not None
    away = look(found, person(request))
    return ShotWhole(
        id=found.pk,
        name=found.name,
        project=found.project_id,
        project_name=found.project.name,
        role=role_in(request, found.project_id),
        first_frame=found.first_frame,
        last_frame=found.last_frame,
        own_range=found.own_range,
        head=whole(found.head),
        sources=source_rows(found),
        marks=[MarkRow(**mark) for mark in found.marks],
        away=AwayRow(**asdict(away)) if away else None,
    )


def shot_row(shot: Shot) -> ShotRow:
    """A shot as a wall shows it."""
    return shot_rows([shot])[0]


def shot_rows(shots: Sequence[Shot]) -> list[ShotRow]:
    """Shots as a wall shows them."""
    ids = [shot.pk for shot in shots]
    counts, tags = open_counts(ids), tags_of(ids)
    return [_row(shot, counts.get(shot.pk, 0), tags.get(shot.pk, [])) for shot in shots]


def _row(shot: Shot, notes: int, tags: list[str]) -> ShotRow:
    head = shot.head
    return ShotRow(
        id=shot.pk,
        name=shot.name,
        revision=head.number if head else None,
        changed=head.created if head else None,
        picture=picture_of(head.recipe) if head else None,
        frame=shot.first_frame,
        state=ShotState(shot.state),
        archived=shot.archived,
        tags=tags,
        notes=notes,
    )
