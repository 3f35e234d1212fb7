"""Routes: projects and shots."""

from datetime import datetime

from django.db import IntegrityError, transaction
from django.db.models import Count
from django.http import HttpRequest
from ninja import Field, Router, Schema

from config.errors import Refused
from projects.access import get_project, person, role_in
from projects.models import Membership, Project, Role, Shot
from recipes.services import first_revision

router = Router()


class ProjectRow(Schema):
    id: int
    name: str
    role: str
    shots: int


class NewName(Schema):
    name: str = Field(min_length=1, max_length=120)


class ShotRow(Schema):
    id: int
    name: str
    revision: int | None
    changed: datetime | None
    picture: str | None = Field(description="The item that stands for the shot on the wall")


@router.get("/projects", response=list[ProjectRow])
def projects(request: HttpRequest) -> list[ProjectRow]:
    """The projects in which the person has a role."""
    rows = Membership.objects.filter(user_id=person(request)).select_related("project")
    rows = rows.annotate(shots=Count("project__shots")).order_by("project__name")
    return [ProjectRow(id=row.project_id, name=row.project.name, role=row.role, shots=row.shots) for row in rows]


@router.post("/projects", response=ProjectRow)
def create_project(request: HttpRequest, new: NewName) -> ProjectRow:
    """Start a project and own it."""
    with transaction.atomic():
        project = Project.objects.create(name=new.name.strip())
        Membership.objects.create(project=project, user_id=person(request), role=Role.OWNER)
    return ProjectRow(id=project.pk, name=project.name, role=Role.OWNER, shots=0)


@router.get("/projects/{project_id}", response=ProjectRow)
def project(request: HttpRequest, project_id: int) -> ProjectRow:
    found = get_project(request, project_id)
    return ProjectRow(id=found.pk, name=found.name, role=role_in(request, project_id), shots=found.shots.count())


@router.get("/projects/{project_id}/shots", response=list[ShotRow])
def shots(request: HttpRequest, project_id: int) -> list[ShotRow]:
    """The shots of a project, as a wall shows them."""
    return [_shot_row(shot) for shot in get_project(request, project_id).shots.select_related("head")]


@router.post("/projects/{project_id}/shots", response=ShotRow)
def create_shot(request: HttpRequest, project_id: int, new: NewName) -> ShotRow:
    """Start an empty shot."""
    project = get_project(request, project_id, write=True)
    try:
        with transaction.atomic():
            shot = Shot.objects.create(project=project, name=new.name.strip())
            first_revision(shot, person(request))
    except IntegrityError:
        raise Refused(
            409, "name_taken", f"there is a shot '{new.name}' already", where="name", remedy="choose another name"
        ) from None
    return _shot_row(shot)


def _shot_row(shot: Shot) -> ShotRow:
    head = shot.head
    items = [step["name"] for step in head.recipe.get("steps", [])] if head else []
    items = items or (list(head.recipe.get("sources", {})) if head else [])
    return ShotRow(
        id=shot.pk,
        name=shot.name,
        revision=head.number if head else None,
        changed=head.created if head else None,
        picture=items[-1] if items else None,
    )
