"""Rights: every route gets its objects through these functions, and nothing else.

Somebody without any role in a project is told that there is nothing (404); a viewer who would change something is
refused (403).
"""

from typing import cast

from django.db.models import F
from django.http import Http404, HttpRequest

from config.errors import Refused
from config.rows import rows
from config.sessions import NOTHING, Beside
from projects.models import Membership, Project, Role, Shot

WRITERS = (Role.OWNER, Role.ARTIST)
DIGITS = 18
"""Of a number that the database can hold."""


def person(request: HttpRequest) -> int:
    """Id of who asks; routes for signed-in people only."""
    assert request.user.pk is not None
    return request.user.pk


def role_in(request: HttpRequest, project_id: int, *, deleted: bool = False) -> str:
    """The person's role in a project that is there; or, where that is asked for, in a deleted one. Raises Http404."""
    mine = Membership.objects.filter(project_id=project_id, user_id=person(request))
    membership = mine.filter(project__deleted__isnull=not deleted).first()
    if membership is None:
        raise Http404
    return membership.role


def _check(role: str, *, write: bool) -> None:
    if write and role not in WRITERS:
        raise Refused(
            403,
            "forbidden",
            "you may look at this project, not change it",
            remedy="ask its owner for the role of artist",
        )


def may_write(request: HttpRequest, shot: Shot) -> bool:
    return role_in(request, shot.project_id) in WRITERS


def get_project(
    request: HttpRequest, project_id: int, *, write: bool = False, owner: bool = False, deleted: bool = False
) -> Project:
    role = role_in(request, project_id, deleted=deleted)
    _check(role, write=write)
    if owner and role != Role.OWNER:
        raise Refused(403, "forbidden", "only an owner of the project may do this", remedy="ask one of its owners")
    return Project.objects.get(pk=project_id)


def get_shot(request: HttpRequest, shot_id: int, *, write: bool = False, deleted: bool = False) -> Shot:
    """A shot that is there; or, where that is asked for, one that was deleted. Raises Http404 and Refused."""
    # One query: every drag asks for it.
    mine = Shot.objects.select_related("project", "head").filter(
        pk=shot_id, deleted__isnull=not deleted, project__deleted=None, project__memberships__user_id=person(request)
    )
    shot = mine.annotate(role=F("project__memberships__role")).order_by().first()
    if shot is None:
        raise Http404
    _check(shot.role, write=write)
    return shot


_SEEN = """
projects_shot
JOIN projects_project ON projects_project.id = projects_shot.project_id AND projects_project.deleted IS NULL
JOIN projects_membership ON projects_membership.project_id = projects_project.id
"""
_SEEN_BY = "projects_shot.id = %s AND projects_shot.deleted IS NULL AND projects_membership.user_id ="
_WANTED = (Shot, "projects_membership.role", "projects_membership.user_id")


def seen_beside(request: HttpRequest) -> Beside:
    """The shot of a request's address with their role in it, to be found together with who asks."""
    match = request.resolver_match
    shot_id = str(match.kwargs.get("shot_id")) if match else ""
    # Any text may stand there; what is no number is refused after it is known who asks.
    if not shot_id.isascii() or not shot_id.isdigit() or len(shot_id) > DIGITS:
        return NOTHING
    return Beside(f"LEFT JOIN ({_SEEN}) ON {_SEEN_BY} accounts_user.id", (int(shot_id),), _WANTED)


def seen_shot(request: HttpRequest, shot_id: int) -> Shot:
    """A shot that is there, to be looked at: as `get_shot`, but what a drag asks for twenty times a second.

    Project and head are fetched when they are used. Raises Http404.
    """
    brought = getattr(getattr(request, "session", None), "brought", ())
    shot, role, user_id = brought or (None, "", 0)
    if shot is None or shot.pk != shot_id or user_id != person(request):
        found = rows(f"FROM {_SEEN} WHERE {_SEEN_BY} %s", [shot_id, person(request)], *_WANTED)
        if not found:
            raise Http404
        shot, role, _ = found[0]
    shot.role = role
    return cast(Shot, shot)
