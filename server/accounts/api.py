"""Routes: who am I, sign in, sign out."""

from django.contrib.auth import logout
from django.http import HttpRequest, HttpResponse
from django.middleware.csrf import get_token
from ninja import Router, Schema
from ninja.utils import check_csrf

from accounts.models import User
from accounts.services import sign_in
from config.errors import Refused

router = Router()


class Person(Schema):
    id: int
    username: str
    name: str

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
