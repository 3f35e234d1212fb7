"""Routes: the shots of a project kept in order: named, duplicated, moved, put aside, deleted and recovered.

They stand on the router of `recipes/shots.py`: one address has one router, whatever it is asked for.
"""

from datetime import datetime, timedelta

from django.db import transaction
from django.http import HttpRequest, HttpResponse
from ninja import Field, Schema

from accounts.audit import note
from projects.access import get_project, get_shot, person
from projects.api import NewName
from projects.models import Shot, ShotState
from recipes.shots import ShotRow, router, shot_row
from tags.services import set_tags
from wall import coming, tidying

__all__ = ["router"]


class ShotChange(Schema):
    """What is to be another; what is left out stays."""

    name: str | None = Field(None, min_length=1, max_length=120)
    state: ShotState | None = None
    archived: bool | None = None
    project: int | None = None
    tags: list[str] | None = Field(None, max_length=100, description="All of its tags")


class Loss(Schema):
    """What would go with a shot."""

    revisions: int
    sources: int
    bytes: int
    deliverables: int


class ComingShot(Schema):
    """A shot that is still being made."""

    name: str
    share: float = Field(description="How much of its pictures is drawn, 0 to 1")


class DeletedShot(Schema):
    id: int
    name: str
    deleted: datetime
    gone: datetime


@router.put("/shots/{shot_id}", response=ShotRow)
def change_shot(request: HttpRequest, shot_id: int, change: ShotChange) -> ShotRow:
    """Another name, state or project, other tags, or put aside and brought back."""
    shot = get_shot(request, shot_id, write=True)
    told = {
        name: value for name, value in (("state", change.state), ("archived", change.archived)) if value is not None
    }
    # All of it or nothing.
    with transaction.atomic():
        if change.name is not None:
            tidying.rename(shot, change.name)
        if change.project is not None and change.project != shot.project_id:
            tidying.move(shot, get_project(request, change.project, write=True))
        if change.tags is not None:
            set_tags(shot, change.tags)
        if told:
            Shot.objects.filter(pk=shot.pk).update(**told)
    return shot_row(get_shot(request, shot_id))


@router.post("/shots/{shot_id}/copies", response=ShotRow)
def duplicate_shot(request: HttpRequest, shot_id: int, new: NewName) -> ShotRow:
    """A shot with the same recipe, marks and sources, whose files are not stored twice."""
    return shot_row(tidying.duplicate(get_shot(request, shot_id, write=True), new.name, person(request)))


@router.get("/shots/{shot_id}/loss", response=Loss)
def loss(request: HttpRequest, shot_id: int) -> tidying.Loss:
    """What would go if the shot were deleted; files that other shots have, too, stay."""
    return tidying.loss(get_shot(request, shot_id))


@router.delete("/shots/{shot_id}", response={204: None})
def delete_shot(request: HttpRequest, shot_id: int) -> HttpResponse:
    """Delete a shot; for thirty days it can be recovered."""
    shot = get_shot(request, shot_id, write=True)
    tidying.delete(shot)
    note(request, f"deleted the shot '{shot.name}' of '{shot.project.name}'")
    return HttpResponse(status=204)


@router.get("/projects/{project_id}/deleted", response=list[DeletedShot])
def deleted_shots(request: HttpRequest, project_id: int) -> list[DeletedShot]:
    """The deleted shots of a project that can be recovered, the last deleted first."""
    rows = get_project(request, project_id).shots.exclude(deleted=None).order_by("-deleted")
    kept = timedelta(days=tidying.KEPT_DAYS)
    return [
        DeletedShot(id=row.pk, name=row.deleted_name, deleted=row.deleted, gone=row.deleted + kept)
        for row in rows
        if row.deleted
    ]


@router.post("/shots/{shot_id}/recovery", response=ShotRow)
def recover_shot(request: HttpRequest, shot_id: int) -> ShotRow:
    """Bring a deleted shot back."""
    shot = tidying.recover(get_shot(request, shot_id, write=True, deleted=True))
    note(request, f"recovered the shot '{shot.name}' of '{shot.project.name}'")
    return shot_row(shot)


@router.get("/projects/{project_id}/coming", response=list[ComingShot])
def coming_shots(request: HttpRequest, project_id: int) -> list[ComingShot]:
    """The shots of a project that are still being made, as those of the demo are at its first start."""
    project = get_project(request, project_id)
    return [ComingShot(name=name, share=share) for name, share in coming.coming(project.pk)]
