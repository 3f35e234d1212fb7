"""Planes on their way to the browser."""

import json
from collections.abc import Sequence

import zstandard
from django.http import HttpRequest, HttpResponse

from config.clients import address_of
from config.errors import problem_of
from nexal.analysis.view import ViewPlanes, half_planes
from nexal.picture import Window

LOOPBACK = ("127.0.0.1", "::1")


Answer = tuple[str, bytes | memoryview]
"""What planes are, as JSON, and the planes."""


def answer_of(seen: ViewPlanes, data: Sequence[bool], alpha: str, display: Window, digest: str) -> Answer:
    """Half-float planes, one after the other, and what they are."""
    head = {
        "channels": list(seen.picture.planes),
        "data": list(data),
        "ranges": seen.ranges,
        "finished": seen.finished,
        "alpha": alpha,
        "region": seen.picture.region.as_list(),
        "scale": seen.picture.scale.denominator,
        "display": display.as_list(),
        "digest": digest,
        "pending": problem_of(seen.pending).dict() if seen.pending else None,
    }
    return json.dumps(head), half_planes(seen.picture)


def respond(request: HttpRequest, answer: Answer) -> HttpResponse:
    """Planes on their way; what they are stands in X-Nexal-View."""
    head, body = answer
    response = in_bytes(request, body)
    response["X-Nexal-View"] = head
    return response


def in_bytes(request: HttpRequest, body: bytes | memoryview) -> HttpResponse:
    """An answer that is no JSON; smaller on its way over a network."""
    response = HttpResponse(content_type="application/octet-stream")
    if address_of(request) not in LOOPBACK and "zstd" in request.headers.get("Accept-Encoding", ""):
        body = zstandard.compress(body, 1)
        response["Content-Encoding"] = "zstd"
    response.content = body
    response["Cache-Control"] = "private, no-store"
    return response
