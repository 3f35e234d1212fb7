"""Routes: projects and shots."""

from django.db import transaction
from django.db.models import Count, Q
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


class NewName(Schema):
    name: str = Field(min_length=1, max_length=120)


@router.get("/projects", response=list[ProjectRow])
def projects(request: HttpRequest) -> list[ProjectRow]:
    """The projects in which the person has a role."""
    rows = Membership.objects.filter(user_id=person(request)).select_related("project")
    there = Q(project__shots__deleted=None, project__shots__archived=False)
    rows = rows.annotate(shots=Count("project__shots", filter=there)).order_by("project__name")
    return [ProjectRow(id=row.project_id, name=row.project.name, role=row.role, shots=row.shots) for row in rows]


@router.post("/projects", response=ProjectRow)
def create_project(request: HttpRequest, new: NewName) -> ProjectRow:
    """Start a project and own it."""
    with transaction.atomic():
        project = Project.objects.create(name=plain_name(new.name))
        Membership.objects.create(project=project, user_id=person(request), role=Role.OWNER)
    return ProjectRow(id=project.pk, name=project.name, role=Role.OWNER, shots=0)


@router.get("/projects/{project_id}", response=ProjectRow)
def project(request: HttpRequest, project_id: int) -> ProjectRow:
    found = get_project(request, project_id)
    shots = found.shots.filter(deleted=None, archived=False).count()
    return ProjectRow(id=found.pk, name=found.name, role=role_in(request, project_id), shots=shots)


@router.put("/projects/{project_id}", response=ProjectRow)
def rename_project(request: HttpRequest, project_id: int, new: NewName) -> ProjectRow:
    """Give a project another name."""
    found = get_project(request, project_id, owner=True)
    name = plain_name(new.name)
    Project.objects.filter(pk=found.pk).update(name=name)
    note(request, f"named the project '{found.name}' '{name}'")
    return project(request, project_id)
