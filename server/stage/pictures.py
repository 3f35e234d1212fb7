"""Routes: small pictures of whole items, many in one answer, kept on disk where they are of a saved revision."""

import hashlib
import json
import pickle
import struct
import time
import zlib
from collections.abc import Callable
from contextlib import suppress
from functools import cache
from pathlib import Path
from typing import Any, Literal

from django.core.cache import caches
from django.http import Http404, HttpRequest, HttpResponse
from ninja import Field, Router

from config.errors import Refused, problem_of
from nexal.code_version import version_of
from nexal.engine import Plan
from nexal.errors import Cancelled, NexalError, TooMuch
from projects.access import get_shot
from stage import answers, views
from stage.answers import Answer, in_bytes, respond
from stage.requests import Ask, plan_of
from stage.views import ViewAsk, answer_for

router = Router()

SMALL = 4
"""Denominator of the scale from which on whole pictures are kept on disk."""
TOGETHER = 64
ENOUGH_SECONDS, ENOUGH_BYTES = 0.2, 8 << 20
"""What is not begun by then is left to the next request: the first pictures do not wait for the last, and those of
large ones are not held all at once."""


class PicturesAsk(Ask):
    addresses: list[str] = Field(min_length=1, max_length=TOGETHER)
    scale: Literal[4, 8] = Field(8, description="Denominator of the proxy scale")


@router.post("/shots/{shot_id}/pictures")
def pictures(request: HttpRequest, shot_id: int, ask: PicturesAsk) -> HttpResponse:
    """Small pictures of many items in one answer, as many of them as come within a moment.

    The body is the length of a JSON list (four bytes, the least first), the list itself, filled up with blanks to an
    even number of bytes, and the half-float planes of one picture after the other. The list has for each address, as
    asked, either `view`, as X-Nexal-View of a view, and `bytes`, the length of its planes; or `problem`; or `later`
    where the moment was over: it is to be asked for again.
    """
    shot = get_shot(request, shot_id)
    planned = plan_of(shot, ask)
    saved = ask.recipe is None or (shot.head is not None and ask.recipe == shot.head.recipe)
    began = time.monotonic()
    rows: list[dict[str, Any]] = []
    bodies: list[bytes | memoryview] = []
    for address in ask.addresses:
        row: dict[str, Any] = {"address": address}
        rows.append(row)
        late = time.monotonic() - began > ENOUGH_SECONDS or sum(map(len, bodies)) > ENOUGH_BYTES
        if len(rows) > 1 and late:
            row["later"] = True
            continue
        try:
            head, body = small(planned, address, ask.scale, ask.frame, keep=saved)
        except (Cancelled, Refused):
            raise
        except NexalError as error:
            # What is too much for one request beside the others may be well by itself.
            row |= (
                {"later": True}
                if isinstance(error, TooMuch) and len(rows) > 1
                else {"problem": problem_of(error).dict()}
            )
        else:
            row |= {"view": json.loads(head), "bytes": len(body)}
            bodies.append(body)
    told = json.dumps(rows).encode()
    told += b" " * (len(told) % 2)
    return in_bytes(request, b"".join([struct.pack("<I", len(told)), told, *bodies]))


@router.get("/shots/{shot_id}/revisions/{number}/view/{address}")
def revision_view(
    request: HttpRequest, shot_id: int, number: int, address: str, scale: int = 8, frame: int = 1
) -> HttpResponse:
    """The whole of an item of a saved revision: revisions never change, so the answer may be kept by its tag."""
    shot = get_shot(request, shot_id)
    revision = shot.revisions.filter(number=number).first()
    if revision is None:
        raise Http404
    planned = plan_of(shot, Ask(recipe=revision.recipe, frame=frame))
    tag = f'"{_key(planned, address, scale)}"'
    if request.headers.get("If-None-Match") == tag:
        return HttpResponse(status=304)
    response = respond(request, small(planned, address, scale, frame, keep=scale >= SMALL))
    response["ETag"] = tag
    # The revision never changes, but the code that makes its pixels may: the tag tells, so it is asked for.
    response["Cache-Control"] = "private, no-cache"
    return response


def small(planned: Plan, address: str, scale: int, frame: int, *, keep: bool) -> Answer:
    """The whole of an item; from the disk where it is kept. Raises NexalError."""
    ask = ViewAsk.model_validate({"address": address, "scale": scale, "frame": frame})
    if not keep:
        return answer_for(planned, planned.feed(address), ask)
    return _kept(_key(planned, address, scale), lambda: answer_for(planned, planned.feed(address), ask))


@cache
def _code() -> str:
    """The version of all that makes an answer of computed planes: the core's view, and what packs it here."""
    digest = hashlib.blake2b(version_of("nexal.analysis.view").encode(), digest_size=8)
    for module in (answers, views):
        digest.update(Path(module.__file__ or "").read_bytes())
    return digest.hexdigest()


def _key(planned: Plan, address: str, scale: int) -> str:
    """What the pixels are computed from, by what code, and how they are shown."""
    return f"{planned.feed(address).node.digest}-{address}-{scale}-{_code()}"


def _kept(key: str, make: Callable[[], Answer]) -> Answer:
    """An answer from the disk; else it is made, and kept there if there is room."""
    kept, name = caches["pictures"], hashlib.sha256(key.encode()).hexdigest()
    found: Answer | None = None
    # What is damaged there is made anew.
    with suppress(OSError, EOFError, ValueError, zlib.error, pickle.UnpicklingError):
        found = kept.get(name)
    if found is None:
        head, body = make()
        found = head, bytes(body)
        with suppress(OSError):
            kept.set(name, found)
    return found
