"""Signing in, with a limit on failures."""

from datetime import timedelta

from django.conf import settings
from django.contrib.auth import authenticate, login
from django.http import HttpRequest
from django.utils import timezone

from accounts.models import FailedSignIn, User
from config.clients import address_of
from config.errors import Refused

ADDRESS_FACTOR = 6
"""How many more failures one address has than one name: several people may share it."""


def sign_in(request: HttpRequest, username: str, password: str) -> User:
    """Sign a person in. Raises Refused: 401 for a wrong name or password, 429 after too many failures."""
    address = address_of(request)[:64]
    since = timezone.now() - timedelta(minutes=settings.NEXAL_SIGN_IN_MINUTES)
    recent = FailedSignIn.objects.filter(address=address, at__gte=since)
    limit = settings.NEXAL_SIGN_IN_FAILURES
    if recent.filter(username=username[:150]).count() >= limit or recent.count() >= limit * ADDRESS_FACTOR:
        raise Refused(
            429,
            "too_many",
            "too many failed attempts to sign in",
            remedy=f"wait {settings.NEXAL_SIGN_IN_MINUTES} minutes and try again",
        )
    user = authenticate(request, username=username, password=password)
    if not isinstance(user, User):
        FailedSignIn.objects.filter(at__lt=since).delete()
        FailedSignIn.objects.create(username=username[:150], address=address)
        raise Refused(401, "sign_in", "name or password is wrong", remedy="check both and try again")
    recent.filter(username=username).delete()
    login(request, user)
    return user
