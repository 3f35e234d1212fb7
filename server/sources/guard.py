"""Uploads are looked at before their body is read."""

from collections.abc import Callable

from django.http import Http404, HttpRequest, HttpResponse, JsonResponse

from config.errors import NOT_FOUND, SIGNED_OUT, Problem, Refused, problem_of
from projects.access import get_shot
from sources.tickets import UPLOAD


class UploadGuard:
    """Middleware: refuses files of who is not signed in, or may not import here, without reading them."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        found = UPLOAD.fullmatch(request.path)
        if request.method != "POST" or not found:
            return self.get_response(request)
        if not request.user.is_authenticated:
            return _told(401, Problem.model_validate(SIGNED_OUT))
        try:
            get_shot(request, int(found[1]), write=True)
        except Http404:
            return _told(404, Problem.model_validate(NOT_FOUND))
        except Refused as refused:
            return _told(refused.status, problem_of(refused))
        return self.get_response(request)


def _told(status: int, problem: Problem) -> HttpResponse:
    return JsonResponse(problem.dict(exclude={"also"}), status=status)
