"""Sessions in the database, found together with who they belong to: see `config.rows`."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from django.conf import settings
from django.contrib import auth
from django.contrib.auth import BACKEND_SESSION_KEY, HASH_SESSION_KEY, SESSION_KEY
from django.contrib.auth.middleware import AuthenticationMiddleware
from django.contrib.auth.models import AnonymousUser
from django.contrib.sessions.backends.db import SessionStore as DatabaseStore
from django.contrib.sessions.models import Session
from django.http import HttpRequest
from django.utils.crypto import constant_time_compare
from django.utils.functional import SimpleLazyObject

from accounts.models import User
from config.rows import Wanted, rows

_FOUND = """
FROM django_session
LEFT JOIN accounts_place ON accounts_place.session = django_session.session_key
LEFT JOIN accounts_user ON accounts_user.id = accounts_place.user_id
{joined}
WHERE django_session.session_key = %s AND django_session.expire_date > UTC_TIMESTAMP(6)
"""


@dataclass(frozen=True)
class Beside:
    """What is asked of the database together with a session: how it is joined to `accounts_user`, with which values,
    and what is wanted of it."""

    joined: str = ""
    values: tuple[Any, ...] = ()
    wanted: tuple[Wanted, ...] = ()


NOTHING = Beside()


def _nothing(request: HttpRequest) -> Beside:
    return NOTHING


beside: Callable[[HttpRequest], Beside] = _nothing
"""What a request will ask for besides: set by the app that knows."""


class SessionStore(DatabaseStore):
    """`user` is who signed in with the session, as far as that was noted; whether they still are is not looked at.
    `brought` is what was found `beside` it."""

    user: User | None = None
    beside = NOTHING
    brought: tuple[Any, ...] = ()

    def _get_session_from_db(self) -> Session | None:
        more = self.beside
        query = _FOUND.format(joined=more.joined)
        found = rows(query, [*more.values, self.session_key], Session, User, *more.wanted)
        if found:
            session: Session
            session, self.user, *brought = found[0]
            self.brought = tuple(brought)
            return session
        self._session_key = None
        return None


class WhoAsks(AuthenticationMiddleware):
    """Django's, which asks the database for the person only where the session came without them."""

    def process_request(self, request: HttpRequest) -> None:
        super().process_request(request)
        request.user = SimpleLazyObject(lambda: _user(request))  # type: ignore[assignment]


def _user(request: HttpRequest) -> User | AnonymousUser:
    store: Any = request.session
    store.beside = beside(request)
    found = _signed_in(request)
    return auth.get_user(request) if found is None else found


def _signed_in(request: HttpRequest) -> User | None:
    """Who came with the session, if all holds that Django looks at (`auth.get_user`); else Django is to look itself."""
    session = request.session
    sign = session.get(HASH_SESSION_KEY)
    user: User | None = getattr(session, "user", None)
    if (
        user is not None
        and user.is_active
        and session.get(SESSION_KEY) == str(user.pk)
        and session.get(BACKEND_SESSION_KEY) in settings.AUTHENTICATION_BACKENDS
        and sign
        and constant_time_compare(sign, user.get_session_auth_hash())
    ):
        return user
    return None
