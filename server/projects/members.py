"""Routes: who works in a project, and as what."""

from django.db import transaction
from django.http import Http404, HttpRequest, HttpResponse
from ninja import Field, Router, Schema

from accounts.audit import note
from accounts.models import User
from config.errors import Refused
from projects.access import get_project, person
from projects.models import Membership, Project, Role

router = Router()


class MemberRow(Schema):
    id: int
    username: str
    name: str
    role: str
    active: bool = Field(description="Whether they can sign in")


class NewMember(Schema):
    username: str = Field(min_length=1, max_length=150)
    role: Role


class NewRole(Schema):
    role: Role


class Candidate(Schema):
    username: str
    name: str


def _row(membership: Membership) -> MemberRow:
    user = membership.user
    return MemberRow(id=user.pk, username=user.username, name=user.shown, role=membership.role, active=user.is_active)


def _rows(project: Project) -> list[MemberRow]:
    return [_row(each) for each in project.memberships.select_related("user").order_by("user__username")]


def _member(project: Project, user_id: int) -> Membership:
    found = project.memberships.select_related("user").filter(user_id=user_id).first()
    if found is None:
        raise Http404
    return found


def _keeps_an_owner(project: Project, leaving: Membership) -> None:
    """Raises Refused where nobody would be left who may change who works here."""
    if leaving.role == Role.OWNER and not project.memberships.filter(role=Role.OWNER).exclude(pk=leaving.pk).exists():
        raise Refused(
            409,
            "last_owner",
            "a project needs an owner, and there is no other one",
            where="role",
            remedy="make somebody else an owner first",
        )


@router.get("/projects/{project_id}/members", response=list[MemberRow])
def members(request: HttpRequest, project_id: int) -> list[MemberRow]:
    """Everybody who works in a project."""
    return _rows(get_project(request, project_id))


@router.get("/projects/{project_id}/candidates", response=list[Candidate])
def candidates(request: HttpRequest, project_id: int) -> list[Candidate]:
    """Who could be added, for owners: everybody who can sign in and has no role in the project."""
    project = get_project(request, project_id, owner=True)
    rest = User.objects.filter(is_active=True).exclude(memberships__project=project).order_by("username")
    return [Candidate(username=user.username, name=user.shown) for user in rest]


@router.post("/projects/{project_id}/members", response=list[MemberRow])
def add_member(request: HttpRequest, project_id: int, new: NewMember) -> list[MemberRow]:
    """Let somebody in. Raises Refused where there is no such person, or they are in."""
    project = get_project(request, project_id, owner=True)
    user = User.objects.filter(username=new.username.strip(), is_active=True).first()
    if user is None:
        raise Refused(
            422,
            "nobody",
            f"nobody signs in as '{new.username.strip()[:40]}'",
            where="username",
            remedy="check the name, or ask an administrator to add them",
        )
    _, made = Membership.objects.get_or_create(project=project, user=user, defaults={"role": new.role})
    if not made:
        raise Refused(
            409, "member", f"{user.username} works here already", where="username", remedy="change their role instead"
        )
    note(request, f"let {user.username} into the project '{project.name}' as {new.role}")
    return _rows(project)


@router.put("/projects/{project_id}/members/{user_id}", response=list[MemberRow])
def change_role(request: HttpRequest, project_id: int, user_id: int, new: NewRole) -> list[MemberRow]:
    """Give somebody another role; the last owner stays one."""
    project = get_project(request, project_id, owner=True)
    with transaction.atomic():
        # One after the other: two owners could make an end of each other.
        Project.objects.select_for_update().get(pk=project.pk)
        _still_owner(request, project)
        found = _member(project, user_id)
        if new.role != Role.OWNER:
            _keeps_an_owner(project, found)
        if found.role != new.role:
            found.role = new.role
            found.save(update_fields=["role"])
            note(request, f"made {found.user.username} {new.role} of the project '{project.name}'")
    return _rows(project)


@router.delete("/projects/{project_id}/members/{user_id}", response={204: None})
def remove_member(request: HttpRequest, project_id: int, user_id: int) -> HttpResponse:
    """Put somebody out, as an owner, or leave oneself; the last owner stays."""
    leaving = user_id == person(request)
    project = get_project(request, project_id, owner=not leaving)
    with transaction.atomic():
        Project.objects.select_for_update().get(pk=project.pk)
        if not leaving:
            _still_owner(request, project)
        found = _member(project, user_id)
        _keeps_an_owner(project, found)
        found.delete()
        done = "left" if leaving else f"put {found.user.username} out of"
        note(request, f"{done} the project '{project.name}'")
    return HttpResponse(status=204)


def _still_owner(request: HttpRequest, project: Project) -> None:
    """What was true before one waited for another owner may not be any more."""
    get_project(request, project.pk, owner=True)
