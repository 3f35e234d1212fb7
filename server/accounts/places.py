"""Where people are signed in: noted at every sign-in, however it came about, and ended from elsewhere."""

from datetime import timedelta
from typing import Any

from django.contrib.auth.signals import user_logged_in, user_logged_out
from django.contrib.sessions.models import Session
from django.dispatch import receiver
from django.http import HttpRequest
from django.utils import timezone

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
    """Where somebody is signed in now, the last seen first; what has ended is forgotten."""
    alive = Session.objects.filter(expire_date__gt=timezone.now()).values("session_key")
    Place.objects.filter(user=user).exclude(session__in=alive).delete()
    return list(Place.objects.filter(user=user).order_by("-seen")[:MOST])


def seen(request: HttpRequest) -> None:
    """The browser that asks is in use."""
    now = timezone.now()
    Place.objects.filter(session=request.session.session_key, seen__lt=now - SEEN_EVERY).update(seen=now)


def end(place: Place) -> None:
    """End a session: that browser is signed out from now on."""
    Session.objects.filter(session_key=place.session).delete()
    place.delete()


def end_others(request: HttpRequest, user: User, before: str | None) -> None:
    """End every session of somebody but the one that asks, whose key was `before` until now."""
    mine = request.session.session_key
    Place.objects.filter(user=user, session=before).update(session=mine)
    others = Place.objects.filter(user=user).exclude(session=mine)
    Session.objects.filter(session_key__in=others.values("session")).delete()
    others.delete()
