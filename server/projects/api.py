"""Routes: projects started, looked at, and changed."""

from django.db import transaction
from django.http import HttpRequest
from ninja import Field, Router, Schema

from accounts.audit import note
from config.names import plain_name
from projects.access import get_project, person, role_in
from projects.models import Membership, Project, Role

router = Router()


class ProjectRow(Schema):
    id: int
    name: str
    role: str
    shots: int
    archived: bool


class ProjectChange(Schema):
    """What is to be another; what is left out stays."""

    name: str | None = Field(None, min_length=1, max_length=120)
    archived: bool | None = None


class NewName(Schema):
    name: str = Field(min_length=1, max_length=120)


@router.post("/projects", response=ProjectRow)
def create_project(request: HttpRequest, new: NewName) -> ProjectRow:
    """Start a project and own it."""
    with transaction.atomic():
        project = Project.objects.create(name=plain_name(new.name))
        Membership.objects.create(project=project, user_id=person(request), role=Role.OWNER)
    return ProjectRow(id=project.pk, name=project.name, role=Role.OWNER, shots=0, archived=False)


@router.get("/projects/{project_id}", response=ProjectRow)
def project(request: HttpRequest, project_id: int) -> ProjectRow:
    found = get_project(request, project_id)
    shots = found.shots.filter(deleted=None, archived=False).count()
    role = role_in(request, project_id)
    return ProjectRow(id=found.pk, name=found.name, role=role, shots=shots, archived=found.archived)


@router.put("/projects/{project_id}", response=ProjectRow)
def change_project(request: HttpRequest, project_id: int, change: ProjectChange) -> ProjectRow:
    """Give a project another name, put it aside, or bring it back."""
    found = get_project(request, project_id, owner=True)
    if change.name is not None:
        name = plain_name(change.name)
        Project.objects.filter(pk=found.pk).update(name=name)
        note(request, f"named the project '{found.name}' '{name}'")
    if change.archived is not None:
        Project.objects.filter(pk=found.pk).update(archived=change.archived)
    return project(request, project_id)
