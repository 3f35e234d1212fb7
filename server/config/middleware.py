"""Headers that every answer carries."""

from collections.abc import Callable

from django.conf import settings
from django.http import HttpRequest, HttpResponse

POLICY = {
    "default-src": "'none'",
    "script-src": "'self'",
    # Radix places its popovers with style attributes and one style element.
    "style-src": "'self' 'unsafe-inline'",
    "img-src": "'self' blob: data:",
    "font-src": "'self'",
    "connect-src": "'self'",
    "worker-src": "'self' blob:",
    "frame-ancestors": "'none'",
    "base-uri": "'none'",
    "form-action": "'self'",
}
DEVELOPMENT = {"script-src": "'self' http://localhost:5173 'unsafe-inline'", "connect-src": "'self' ws: http:"}


class ContentSecurityPolicy:
    """Only what the application ships itself is run, shown or connected to."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response
        policy = POLICY | (DEVELOPMENT if settings.DEBUG else {})
        self.header = "; ".join(f"{name} {value}" for name, value in policy.items())

    def __call__(self, request: HttpRequest) -> HttpResponse:
        response = self.get_response(request)
        response.headers.setdefault("Content-Security-Policy", self.header)
        return response
