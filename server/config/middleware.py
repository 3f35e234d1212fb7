"""Headers that every answer carries."""

from collections.abc import Callable

from django.conf import settings
from django.http import HttpRequest, HttpResponse

from config.policy import policy


class ContentSecurityPolicy:
    """Only what the application ships itself is run, shown or connected to."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response
        self.header = policy(debug=settings.DEBUG)

    def __call__(self, request: HttpRequest) -> HttpResponse:
        response = self.get_response(request)
        response.headers.setdefault("Content-Security-Policy", self.header)
        # A page that is come back to would be made of what it was told before, whatever was changed since.
        if request.path.startswith("/api/"):
            response.headers.setdefault("Cache-Control", "private, no-store")
        return response
