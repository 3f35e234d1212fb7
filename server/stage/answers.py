"""Planes on their way to the browser."""

import json
import os
from collections.abc import Iterator, Sequence
from functools import cached_property

import zstandard
from django.http import HttpRequest, HttpResponse

from config.clients import address_of
from config.errors import problem_of
from nexal.analysis.samples import code_planes, ends_of, half_planes
from nexal.analysis.view import ViewPlanes
from nexal.picture import Alpha, Window

LOOPBACK = ("127.0.0.1", "::1")


Answer = tuple[str, bytes | memoryview]
"""What planes are, as JSON, and the planes."""


def answer_of(
    seen: ViewPlanes,
    data: Sequence[bool],
    alpha: Alpha,
    display: Window,
    digest: str,
    exposure: float | None = None,
) -> Answer:
    """Half-float planes, one after the other, and what they are; codes of what is seen at an exposure, where that does.

    `ends` are what codes go from and to, none along the display curve; there are none at all of half floats.
    """
    ends = None if exposure is None else ends_of(seen, alpha, exposure)
    head = {
        "channels": list(seen.picture.planes),
        "data": list(data),
        "ranges": seen.ranges,
        "finished": seen.finished,
        "alpha": alpha.value,
        "region": seen.picture.region.as_list(),
        "scale": seen.picture.scale.denominator,
        "display": display.as_list(),
        "digest": digest,
        "pending": problem_of(seen.pending).dict() if seen.pending else None,
        **({"ends": ends, "exposure": exposure} if ends else {}),
    }
    body = half_planes(seen.picture) if ends is None else code_planes(seen.picture, ends, exposure or 0.0)
    return json.dumps(head), body


def respond(request: HttpRequest, answer: Answer, wait: float = 0.0) -> HttpResponse:
    """Planes on their way; what they are stands in X-Nexal-View.

    In X-Nexal-Next stands after how many milliseconds who follows them should ask again, where that is not at once.
    """
    head, body = answer
    response = in_bytes(request, body)
    response["X-Nexal-View"] = head
    if wait:
        response["X-Nexal-Next"] = str(round(1000 * wait))
    return response


class _Stream:
    """Memory as a file that is read from front to end, in pieces."""

    def __init__(self, memory: memoryview) -> None:
        self.memory, self.at = memory, 0

    def seekable(self) -> bool:
        return True

    def tell(self) -> int:
        return self.at

    def seek(self, offset: int, whence: int = os.SEEK_SET) -> int:
        self.at = offset + {os.SEEK_SET: 0, os.SEEK_CUR: self.at, os.SEEK_END: len(self.memory)}[whence]
        return self.at

    def read(self, size: int = -1) -> bytes:
        piece = self.memory[self.at :] if size < 0 else self.memory[self.at : self.at + size]
        self.at += len(piece)
        return bytes(piece)

    def close(self) -> None:
        """Memory is given back by who holds it."""


class Samples(HttpResponse):
    """Bytes that go out from the memory that they are in, piece by piece: all of a picture would be copied four times.

    Django hands `file_to_stream` to a server that sends files by itself.
    """

    block_size = 1 << 18

    def make_bytes(self, value: object) -> bytes:
        return value if isinstance(value, memoryview) else super().make_bytes(value)  # type: ignore[return-value]

    def __iter__(self) -> Iterator[bytes]:
        stream = self.file_to_stream
        stream.seek(0)
        return iter(lambda: stream.read(self.block_size), b"")

    @cached_property
    def file_to_stream(self) -> _Stream:
        (body,) = super().__iter__()
        return _Stream(memoryview(body))


def in_bytes(request: HttpRequest, body: bytes | memoryview) -> HttpResponse:
    """An answer that is no JSON; smaller on its way over a network."""
    response = Samples(content_type="application/octet-stream")
    if address_of(request) not in LOOPBACK and "zstd" in request.headers.get("Accept-Encoding", ""):
        body = zstandard.compress(body, 1)
        response["Content-Encoding"] = "zstd"
    response.content = body
    # Said here: who has to count the bytes lays them together first, which takes as long as a quarter of a drag's step.
    response["Content-Length"] = str(len(body))
    response["Cache-Control"] = "private, no-store"
    return response
