"""Routes: the projects that one works in, as they are seen side by side; deleted and recovered.

They stand on the router of `projects/api.py`: one address has one router, whatever it is asked for.
"""

from collections import defaultdict
from datetime import datetime, timedelta

from django.db.models import Count, Q
from django.http import HttpRequest, HttpResponse
from ninja import Field, Schema

from accounts.audit import note
from projects.access import get_project, person
from projects.api import ProjectRow, project, router
from projects.models import Membership, Role, Shot
from recipes.rows import picture_of
from wall import tidying
from wall.api import Loss

__all__ = ["router"]

PICTURES = 4
"""Shots that stand for a project."""


class ProjectPicture(Schema):
    """A shot that stands for its project."""

    shot: int
    name: str
    revision: int
    picture: str
    frame: int


class ProjectCard(ProjectRow):
    changed: datetime | None = Field(description="When a shot of it was changed last")
    members: list[str] = Field(description="Who works in it, owners first")
    pictures: list[ProjectPicture]


class ProjectLoss(Loss):
    """What would go with a project."""

    shots: int


class DeletedProject(Schema):
    id: int
    name: str
    deleted: datetime
    gone: datetime


@router.get("/projects", response=list[ProjectCard])
def projects(request: HttpRequest) -> list[ProjectCard]:
    """The projects in which the person has a role, with what was worked on last."""
    there = Q(project__shots__deleted=None, project__shots__archived=False)
    mine = Membership.objects.filter(user_id=person(request), project__deleted=None).select_related("project")
    rows = list(mine.annotate(shots=Count("project__shots", filter=there)).order_by("project__name"))
    ids = [row.project_id for row in rows]
    newest = _newest(ids)
    members = defaultdict(list)
    everybody = Membership.objects.filter(project__in=ids, user__is_active=True).select_related("user")
    for each in sorted(everybody, key=lambda each: (each.role != Role.OWNER, each.user.username)):
        members[each.project_id].append(each.user.shown)
    return [
        ProjectCard(
            id=row.project_id,
            name=row.project.name,
            role=row.role,
            shots=row.shots,
            archived=row.project.archived,
            changed=max((shot.head.created for shot in newest[row.project_id] if shot.head), default=None),
            members=members[row.project_id],
            pictures=[found for shot in newest[row.project_id] if (found := _picture(shot))],
        )
        for row in rows
    ]


def _newest(ids: list[int]) -> dict[int, list[Shot]]:
    """The shots of each project that were changed last, with what they show."""
    chosen: dict[int, list[int]] = defaultdict(list)
    there = Shot.objects.filter(project__in=ids, deleted=None, archived=False, head__isnull=False)
    # Their recipes are read of the few that are shown alone.
    for pk, project_id in there.order_by("-head__created").values_list("pk", "project_id"):
        if len(chosen[project_id]) < PICTURES:
            chosen[project_id].append(pk)
    rows = Shot.objects.select_related("head").in_bulk([pk for pks in chosen.values() for pk in pks])
    found: dict[int, list[Shot]] = defaultdict(list)
    for project_id, pks in chosen.items():
        found[project_id] = [rows[pk] for pk in pks if pk in rows]
    return found


def _picture(shot: Shot) -> ProjectPicture | None:
    picture = picture_of(shot.head.recipe) if shot.head else None
    if shot.head is None or picture is None:
        return None
    return ProjectPicture(
        shot=shot.pk, name=shot.name, revision=shot.head.number, picture=picture, frame=shot.first_frame
    )


@router.get("/projects/{project_id}/loss", response=ProjectLoss)
def project_loss(request: HttpRequest, project_id: int) -> ProjectLoss:
    """What would go if the project were deleted."""
    return ProjectLoss(**tidying.project_loss(get_project(request, project_id, owner=True)))


@router.delete("/projects/{project_id}", response={204: None})
def delete_project(request: HttpRequest, project_id: int) -> HttpResponse:
    """Delete a project with its shots; for thirty days it can be recovered."""
    found = get_project(request, project_id, owner=True)
    tidying.delete_project(found)
    note(request, f"deleted the project '{found.name}'")
    return HttpResponse(status=204)


@router.get("/deleted-projects", response=list[DeletedProject])
def deleted_projects(request: HttpRequest) -> list[DeletedProject]:
    """One's own projects that were deleted and can be recovered, the last deleted first."""
    mine = Membership.objects.filter(user_id=person(request), role=Role.OWNER).exclude(project__deleted=None)
    rows = mine.select_related("project").order_by("-project__deleted")
    kept = timedelta(days=tidying.KEPT_DAYS)
    return [
        DeletedProject(id=each.pk, name=each.name, deleted=each.deleted, gone=each.deleted + kept)
        for each in (row.project for row in rows)
        if each.deleted
    ]


@router.post("/projects/{project_id}/recovery", response=ProjectRow)
def recover_project(request: HttpRequest, project_id: int) -> ProjectRow:
    """Bring a deleted project back, with all that was in it."""
    found = get_project(request, project_id, owner=True, deleted=True)
    tidying.recover_project(found)
    note(request, f"recovered the project '{found.name}'")
    return project(request, project_id)
