"""Where people are signed in: noted at every sign-in, however it came about, and ended from elsewhere."""

from datetime import timedelta
from typing import Any

from django.contrib.auth import HASH_SESSION_KEY
from django.contrib.auth.signals import user_logged_in, user_logged_out
from django.contrib.sessions.models import Session
from django.dispatch import receiver
from django.http import HttpRequest
from django.utils import timezone
from django.utils.crypto import constant_time_compare

from accounts.models import Place, User
from config.clients import address_of

SEEN_EVERY = timedelta(minutes=5)
MOST = 100


@receiver(user_logged_in)
def _came(sender: Any, request: HttpRequest, user: User, **_: Any) -> None:
    """Somebody has signed in."""
    if not request.session.session_key:
        request.session.save()
    Place.objects.update_or_create(
        session=request.session.session_key,
        defaults={
            "user": user,
            "address": address_of(request)[:64],
            "browser": request.headers.get("User-Agent", "")[:300],
        },
    )


@receiver(user_logged_out)
def _went(sender: Any, request: HttpRequest, user: User | None, **_: Any) -> None:
    """Somebody has signed out."""
    Place.objects.filter(session=request.session.session_key).delete()


def places_of(user: User) -> list[Place]:
    """Where somebody is signed in now, the last seen first; what has ended is forgotten.

    A session ends by its time, by being deleted, and by any other password than it began with, whoever set that.
    """
    rows = list(Place.objects.filter(user=user).order_by("-seen"))
    keys = [row.session for row in rows]
    sign = user.get_session_auth_hash()
    alive = {
        session.session_key
        for session in Session.objects.filter(session_key__in=keys, expire_date__gt=timezone.now())
        if constant_time_compare(session.get_decoded().get(HASH_SESSION_KEY, ""), sign)
    }
    ended = [row.session for row in rows if row.session not in alive]
    Session.objects.filter(session_key__in=ended).delete()
    Place.objects.filter(session__in=ended).delete()
    return [row for row in rows if row.session in alive][:MOST]


def seen(request: HttpRequest) -> None:
    """The browser that asks is in use."""
    now = timezone.now()
    Place.objects.filter(session=request.session.session_key, seen__lt=now - SEEN_EVERY).update(seen=now)


def end(place: Place) -> None:
    """End a session: that browser is signed out from now on."""
    Session.objects.filter(session_key=place.session).delete()
    place.delete()


def follow(request: HttpRequest, before: str | None) -> None:
    """The session that asks has another key than `before`."""
    Place.objects.filter(session=before).update(session=request.session.session_key)
