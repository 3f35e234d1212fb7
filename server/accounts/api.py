"""Routes: who am I, sign in, sign out."""

import logging
import re
import time
from datetime import datetime

from django.contrib.auth import logout
from django.http import Http404, HttpRequest, HttpResponse
from django.middleware.csrf import get_token
from ninja import Field, Router, Schema
from ninja.utils import check_csrf

from accounts.models import Place, User
from accounts.places import end, places_of, seen
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
        return user.shown


class Session(Schema):
    person: Person | None
    csrf: str


class Credentials(Schema):
    username: str
    password: str


@router.get("/session", auth=None, response=Session)
def session(request: HttpRequest) -> dict[str, object]:
    """The signed-in person, if any, and the token that changing requests carry in X-CSRFToken."""
    if request.user.is_authenticated:
        seen(request)
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


class PlaceRow(Schema):
    id: int
    address: str
    browser: str = Field(description="What the browser says of itself")
    since: datetime
    seen: datetime
    here: bool = Field(description="Whether it is the one that asks")


@router.get("/session/places", response=list[PlaceRow])
def places(request: HttpRequest) -> list[PlaceRow]:
    """Where the signed-in person is signed in, the last seen first."""
    return [
        PlaceRow(
            id=place.pk,
            address=place.address,
            browser=place.browser,
            since=place.since,
            seen=place.seen,
            here=place.session == request.session.session_key,
        )
        for place in places_of(_person(request))
    ]


@router.delete("/session/places/{place_id}", response={204: None})
def end_place(request: HttpRequest, place_id: int) -> HttpResponse:
    """Sign out elsewhere."""
    found = Place.objects.filter(user=_person(request), pk=place_id).first()
    if found is None:
        raise Http404
    end(found)
    return HttpResponse(status=204)


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
