"""Routes: an administrator's view of everybody, and links by which people choose their first password.

A link is good once, and for `PASSWORD_RESET_TIMEOUT`: it is signed over the password that it replaces (Django's own
token for that).
"""

from datetime import datetime
from typing import Annotated

from django.contrib.auth import login
from django.contrib.auth.tokens import default_token_generator
from django.db import IntegrityError, transaction
from django.http import Http404, HttpRequest
from django.middleware.csrf import get_token
from ninja import Field, Router, Schema
from ninja.utils import check_csrf

from accounts.api import Session
from accounts.audit import note
from accounts.models import Deed, User
from accounts.services import change_name, set_password, username_of
from config.errors import Refused

router = Router()

PAGE = 50
"""Deeds told at once."""

FullName = Annotated[str, Field(min_length=1, max_length=150)]


class PersonRow(Schema):
    id: int
    username: str
    name: str
    active: bool
    administrator: bool
    invited: bool = Field(description="Has not chosen a password yet, or has to choose a new one")
    last_login: datetime | None


class NewPerson(Schema):
    username: str = Field(min_length=1, max_length=150)
    name: FullName
    administrator: bool = False
    password: str | None = Field(None, max_length=4096, description="Without one, they get a link to choose it by")


class AddedPerson(Schema):
    person: PersonRow
    link: str | None = Field(description="Path of the page where they choose their password")


class PersonChange(Schema):
    name: FullName | None = None
    active: bool | None = None
    administrator: bool | None = None


class DeedRow(Schema):
    id: int
    at: datetime
    who: str
    sentence: str
    address: str


class Invited(Schema):
    username: str
    name: str


class FirstPassword(Schema):
    password: str = Field(max_length=4096)


def _administrator(request: HttpRequest) -> User:
    assert isinstance(request.user, User)
    if not request.user.is_staff:
        raise Refused(
            403, "forbidden", "only an administrator sees and changes accounts", remedy="ask one of your house"
        )
    return request.user


def _find(person_id: int) -> User:
    user = User.objects.filter(pk=person_id).first()
    if user is None:
        raise Http404
    return user


def _row(user: User) -> PersonRow:
    return PersonRow(
        id=user.pk,
        username=user.username,
        name=user.shown,
        active=user.is_active,
        administrator=user.is_staff,
        invited=not user.has_usable_password(),
        last_login=user.last_login,
    )


def _link(user: User) -> str:
    return f"/welcome/{user.pk}/{default_token_generator.make_token(user)}"


@router.get("/people", response=list[PersonRow])
def people(request: HttpRequest) -> list[PersonRow]:
    """Everybody who has an account, for administrators."""
    _administrator(request)
    return [_row(user) for user in User.objects.order_by("username")]


@router.post("/people", response=AddedPerson)
def add_person(request: HttpRequest, new: NewPerson) -> AddedPerson:
    """Make an account, with a first password or a link to choose one by."""
    _administrator(request)
    username = username_of(new.username)
    try:
        with transaction.atomic():
            user = User(username=username, is_staff=new.administrator)
            user.set_unusable_password()
            user.save()
            change_name(user, new.name)
            if new.password is not None:
                set_password(user, new.password)
            note(request, f"added {username}{' as administrator' if new.administrator else ''}")
    except IntegrityError:
        raise Refused(
            409, "name_taken", f"somebody signs in as '{username}' already", where="username", remedy="choose another"
        ) from None
    return AddedPerson(person=_row(user), link=_link(user) if new.password is None else None)


@router.put("/people/{person_id}", response=PersonRow)
def change_person(request: HttpRequest, person_id: int, change: PersonChange) -> PersonRow:
    """Another name, turned off or on, administrator or not. Nobody turns off, or gives up the right of, themselves."""
    own = _administrator(request)
    user = _find(person_id)
    if user.pk == own.pk and (change.active is False or change.administrator is False):
        raise Refused(
            409, "yourself", "you cannot take this from yourself", remedy="ask another administrator to do it"
        )
    with transaction.atomic():
        if change.name is not None:
            change_name(user, change.name)
            note(request, f"named {user.username} '{user.get_full_name()}'")
        if change.active is not None and change.active != user.is_active:
            user.is_active = change.active
            note(request, f"turned {user.username} {'on' if change.active else 'off'}")
        if change.administrator is not None and change.administrator != user.is_staff:
            user.is_staff = change.administrator
            made = "an administrator" if change.administrator else "no administrator any more"
            note(request, f"made {user.username} {made}")
        user.save(update_fields=["is_active", "is_staff"])
    return _row(user)


@router.post("/people/{person_id}/link", response=AddedPerson)
def new_link(request: HttpRequest, person_id: int) -> AddedPerson:
    """Take somebody's password: their sessions end, and they choose another one by the link."""
    own = _administrator(request)
    user = _find(person_id)
    if user.pk == own.pk:
        raise Refused(409, "yourself", "you have a password", remedy="change it under your name")
    user.set_unusable_password()
    user.save(update_fields=["password"])
    note(request, f"took the password of {user.username}, who gets a link for another")
    return AddedPerson(person=_row(user), link=_link(user))


@router.get("/deeds", response=list[DeedRow])
def deeds(request: HttpRequest, before: int | None = None) -> list[Deed]:
    """What was done about people and their rights, the newest first, fifty at a time."""
    _administrator(request)
    rows = Deed.objects.all() if before is None else Deed.objects.filter(pk__lt=before)
    return list(rows[:PAGE])


@router.get("/welcome/{person_id}/{token}", auth=None, response=Invited)
def welcome(request: HttpRequest, person_id: int, token: str) -> Invited:
    """Whose link it is. Raises Refused where it is no good (any more)."""
    user = _invited(person_id, token)
    return Invited(username=user.username, name=user.shown)


@router.post("/welcome/{person_id}/{token}", auth=None, response=Session)
def first_password(request: HttpRequest, person_id: int, token: str, chosen: FirstPassword) -> dict[str, object]:
    """Choose a password by a link, and be signed in."""
    if check_csrf(request):
        raise Refused(403, "csrf", "the page is too old", remedy="reload it and try again")
    with transaction.atomic():
        # Of two that use one link at once, one is too late.
        user = _invited(person_id, token, lock=True)
        set_password(user, chosen.password)
        note(request, "chose a password by a link", user.username)
    login(request, user)
    return {"person": user, "csrf": get_token(request)}


def _invited(person_id: int, token: str, *, lock: bool = False) -> User:
    rows = User.objects.select_for_update() if lock else User.objects.all()
    user = rows.filter(pk=person_id, is_active=True).first()
    if user is None or user.has_usable_password() or not default_token_generator.check_token(user, token):
        raise Refused(
            410,
            "link",
            "this link was used, or is too old, or was never given",
            remedy="ask an administrator for a new one",
        )
    return user
