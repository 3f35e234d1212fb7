"""Signing in, with a limit on attempts.

Attempts are counted before the password is looked at, one after the other for each name and address, so that many at
once are no way round. A browser in which a person has signed in before carries a sign of it: its attempts are counted
by themselves, so that neither a stranger who guesses at a name nor another person in the same house locks it out.
References: OWASP, *Slow Down Online Guessing Attacks with Device Cookies*.
"""

import hashlib
import secrets
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import timedelta

from django.conf import settings
from django.contrib.auth import authenticate, login, update_session_auth_hash
from django.contrib.auth.password_validation import validate_password
from django.contrib.auth.validators import UnicodeUsernameValidator
from django.core import signing
from django.core.exceptions import ValidationError
from django.db import connection
from django.db.models import QuerySet
from django.http import HttpRequest, HttpResponse
from django.utils import timezone

from accounts.audit import note
from accounts.models import SignInAttempt, User
from accounts.places import follow
from config.clients import address_of
from config.errors import Refused
from config.names import plain_name

ADDRESS_FACTOR = 6
"""How many more attempts one address has than one name from there: several people may share it."""
NAME_FACTOR = 4
"""How many more attempts one name has from everywhere together."""
DEVICE_COOKIE = "nexal_device"
DEVICE_SECONDS = 180 * 24 * 3600
LOCK_SECONDS = 10


def sign_in(request: HttpRequest, response: HttpResponse, username: str, password: str) -> User:
    """Sign a person in. Raises Refused: 401 for a wrong name or password, 429 after too many attempts."""
    name, address, device = username[:150], address_of(request)[:64], _device(request, username)
    with _one_at_a_time(device or address):
        _count(name, address, device)
    user = authenticate(request, username=username, password=password)
    if not isinstance(user, User):
        raise Refused(401, "sign_in", "name or password is wrong", remedy="check both and try again")
    _alike(name, address, device).delete()
    login(request, user)
    sign = signing.dumps([user.username, device or secrets.token_hex(12)], salt=DEVICE_COOKIE)
    response.set_cookie(
        DEVICE_COOKIE,
        sign,
        max_age=DEVICE_SECONDS,
        httponly=True,
        samesite="Lax",
        secure=settings.SESSION_COOKIE_SECURE,
    )
    return user


def username_of(text: str) -> str:
    """A name that one signs in by. Raises Refused where it cannot be one."""
    username = text.strip()
    try:
        UnicodeUsernameValidator()(username)
    except ValidationError:
        raise Refused(
            422,
            "name",
            f"'{username[:40]}' cannot be signed in by",
            where="username",
            remedy="use letters, digits and @ . + - _ without spaces",
        ) from None
    return username


def change_name(user: User, name: str) -> User:
    """Give a person another full name. Raises Refused where nothing is left of it."""
    user.first_name, user.last_name = plain_name(name), ""
    user.save(update_fields=["first_name", "last_name"])
    return user


def change_password(request: HttpRequest, user: User, old: str, new: str) -> None:
    """Give a person another password, who knows the old one; they stay signed in here, and nowhere else.

    Wrong old ones are counted as attempts to sign in are. Raises Refused: 403 for a wrong old password, 422 for a new
    one that is too easy, 429 after too many attempts.
    """
    name, address, device = user.username[:150], address_of(request)[:64], _device(request, user.username)
    with _one_at_a_time(device or address):
        _count(name, address, device)
    if not user.check_password(old):
        raise Refused(403, "password", "that is not your password", where="old", remedy="check it and try again")
    _alike(name, address, device).delete()
    set_password(user, new, "new")
    note(request, "changed their own password")
    # All other sessions hold a sign of the old one, and end.
    before = request.session.session_key
    update_session_auth_hash(request, user)
    request.session.save()
    follow(request, before)


def set_password(user: User, password: str, where: str = "password") -> None:
    """Give a person a password; it ends their sessions. Raises Refused where it is too easy."""
    try:
        validate_password(password, user)
    except ValidationError as error:
        told = " ".join(error.messages)
        raise Refused(422, "password", told, where=where, remedy="choose another one") from None
    user.set_password(password)
    user.save(update_fields=["password"])


def _alike(name: str, address: str, device: str) -> "QuerySet[SignInAttempt]":
    """Attempts that count together with one: of the same browser, or for the same name from the same address."""
    if device:
        return SignInAttempt.objects.filter(device=device)
    return SignInAttempt.objects.filter(username=name, address=address, device="")


def _count(name: str, address: str, device: str) -> None:
    """Note one more attempt. Raises Refused where there were too many lately."""
    since = timezone.now() - timedelta(minutes=settings.NEXAL_SIGN_IN_MINUTES)
    SignInAttempt.objects.filter(at__lt=since).delete()
    limit = settings.NEXAL_SIGN_IN_FAILURES
    strangers = SignInAttempt.objects.filter(device="")
    if _alike(name, address, device).count() >= limit or (
        not device
        and (
            strangers.filter(address=address).count() >= limit * ADDRESS_FACTOR
            or strangers.filter(username=name).count() >= limit * NAME_FACTOR
        )
    ):
        raise Refused(
            429,
            "too_many",
            "too many failed attempts to sign in",
            remedy=f"wait {settings.NEXAL_SIGN_IN_MINUTES} minutes and try again",
        )
    SignInAttempt.objects.create(username=name, address=address, device=device)


def _device(request: HttpRequest, username: str) -> str:
    """The browser's own number, where this person has signed in there before."""
    try:
        name, device = signing.loads(request.COOKIES.get(DEVICE_COOKIE, ""), salt=DEVICE_COOKIE, max_age=DEVICE_SECONDS)
    except (signing.BadSignature, ValueError):
        return ""
    return str(device) if name == username else ""


@contextmanager
def _one_at_a_time(key: str) -> Iterator[None]:
    """Between all processes that share the database."""
    lock = "nexal-" + hashlib.blake2b(key.encode(), digest_size=16).hexdigest()
    with connection.cursor() as cursor:
        cursor.execute("SELECT GET_LOCK(%s, %s)", [lock, LOCK_SECONDS])
        if not cursor.fetchone()[0]:
            raise Refused(429, "busy", "too many sign in at a time", remedy="try again in a moment")
        try:
            yield
        finally:
            cursor.execute("SELECT RELEASE_LOCK(%s)", [lock])
