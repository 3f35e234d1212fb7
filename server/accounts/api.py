"""Routes: who am I, sign in, sign out."""

import logging
import re
import time

from django.contrib.auth import logout
from django.http import HttpRequest, HttpResponse
from django.middleware.csrf import get_token
from ninja import Field, Router, Schema
from ninja.utils import check_csrf

from accounts.models import User
from accounts.services import change_name, change_password, sign_in
from config.errors import Refused

router = Router()
log = logging.getLogger("nexal.browser")

FAULT_SECONDS = 5
"""Between two faults of one browser that go to the log."""


class Person(Schema):
    id: int
    username: str
    name: str
    administrator: bool

    @staticmethod
    def resolve_administrator(user: User) -> bool:
        return user.is_staff

    @staticmethod
    def resolve_name(user: User) -> str:
        return user.get_full_name() or user.username


class Session(Schema):
    person: Person | None
    csrf: str


class Credentials(Schema):
    username: str
    password: str


@router.get("/session", auth=None, response=Session)
def session(request: HttpRequest) -> dict[str, object]:
    """The signed-in person, if any, and the token that changing requests carry in X-CSRFToken."""
    return {"person": request.user if request.user.is_authenticated else None, "csrf": get_token(request)}


@router.post("/session", auth=None, response=Session)
def create_session(request: HttpRequest, response: HttpResponse, credentials: Credentials) -> dict[str, object]:
    """Sign in."""
    if check_csrf(request):
        raise Refused(403, "csrf", "the page is too old", remedy="reload it and try again")
    person = sign_in(request, response, credentials.username, credentials.password)
    return {"person": person, "csrf": get_token(request)}


@router.delete("/session", response={204: None})
def delete_session(request: HttpRequest) -> HttpResponse:
    """Sign out."""
    logout(request)
    return HttpResponse(status=204)


class NewName(Schema):
    name: str = Field(min_length=1, max_length=150)


@router.put("/session/name", response=Person)
def put_name(request: HttpRequest, new: NewName) -> User:
    """The signed-in person's own full name."""
    return change_name(_person(request), new.name)


class NewPassword(Schema):
    old: str = Field(max_length=4096)
    new: str = Field(max_length=4096)


@router.put("/session/password", response=Session)
def put_password(request: HttpRequest, change: NewPassword) -> dict[str, object]:
    """The signed-in person's own password; every other session of theirs ends."""
    person = _person(request)
    change_password(request, person, change.old, change.new)
    return {"person": person, "csrf": get_token(request)}


def _person(request: HttpRequest) -> User:
    assert isinstance(request.user, User)
    return request.user


class BrowserFault(Schema):
    """What made a page stop."""

    message: str = Field(max_length=1000)
    stack: str = Field("", max_length=8000)
    page: str = Field("", max_length=1000)
    did: str = Field("", max_length=2000, description="What the person says that they did")


@router.post("/faults", response={204: None})
def tell_fault(request: HttpRequest, fault: BrowserFault) -> HttpResponse:
    """Put what made a page stop into the server's log, for whoever runs it."""
    now = time.time()
    if now - request.session.get("told_fault", 0) < FAULT_SECONDS:
        raise Refused(429, "busy", "this was told just now", remedy="wait a moment")
    request.session["told_fault"] = now
    person = request.user.get_username()
    # One line, whatever was sent.
    words = [re.sub(r"\s+", " ", text) for text in (fault.page, fault.message, fault.did, fault.stack)]
    log.error("a page stopped for %s at %s: %s; did: %s; %s", person, *words)
    return HttpResponse(status=204)
