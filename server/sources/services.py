"""Importing: the original is kept, its planes are unpacked by a worker process."""

import re
from functools import cache
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.files import File

from config import jobs
from config.errors import Refused
from nexal.errors import NexalError
from nexal.formats.store import Library, StoredFile, fingerprint
from projects.models import Shot
from sources.models import Source, SourceState

INTERNAL = {
    "code": "internal",
    "message": "could not be unpacked: something went wrong on the server",
    "where": "",
    "remedy": "see that the server's disk has room, then import it again",
}


@cache
def library() -> Library:
    """The plane store of this server."""
    folder = Path(settings.NEXAL_STORE)
    folder.mkdir(parents=True, exist_ok=True)
    return Library(folder, settings.NEXAL_STORE_BYTES)


def stored(source: Source) -> StoredFile:
    return library().stored(source.fingerprint)


def free_name(shot: Shot, name: str) -> str:
    """A file name that no source of the shot has or had, as close to `name` as can be."""
    plain = re.sub(r"[^\w.\- ]", "_", Path(name.replace("\\", "/")).name).strip(". ")[-150:] or "picture"
    taken = set(Source.objects.filter(shot=shot).values_list("files", flat=True))
    stem, dot, suffix = plain.rpartition(".")
    number, free = 2, plain
    while free in taken:
        free = f"{stem}_{number}.{suffix}" if dot else f"{plain}_{number}"
        number += 1
    return free


def import_file(shot: Shot, name: str, file: "File[Any]") -> Source:
    """Keep a file and start to unpack it. Raises Refused where the disk is full."""
    source = Source(shot=shot, files=free_name(shot, name), size=file.size or 0, fingerprint="")
    try:
        source.original.save(source.files, file, save=False)
    except OSError as error:
        raise Refused(
            507,
            "disk",
            f"the file cannot be kept ({error.strerror})",
            where=name,
            remedy="make room on the server's disk",
        ) from None
    source.fingerprint = fingerprint(Path(source.original.path))
    source.save()
    jobs.submit(unpack, source.pk)
    source.refresh_from_db()
    return source


def unpack(source_id: int) -> None:
    """Unpack one source (a job); its row says how it went."""
    source = Source.objects.filter(pk=source_id).first()
    if source is None:
        return
    Source.objects.filter(pk=source_id).update(state=SourceState.READING)
    try:
        file = library().unpack(Path(source.original.path), source.fingerprint)
    except NexalError as error:
        problem = {"code": error.code, "message": error.message, "where": source.files, "remedy": error.remedy}
        Source.objects.filter(pk=source_id).update(state=SourceState.FAILED, problem=problem)
        return
    except Exception:
        # Whatever happened is in the log; the row must not stay at `reading` for ever.
        Source.objects.filter(pk=source_id).update(state=SourceState.FAILED, problem=INTERNAL)
        raise
    header = {key: value for key, value in file.header.items() if key != "channels"}
    Source.objects.filter(pk=source_id).update(state=SourceState.READY, problem={}, header=header)


def resume_imports() -> None:
    """Unpack again what was not finished, or what the plane store no longer holds."""
    for source in Source.objects.exclude(state=SourceState.FAILED):
        if source.state != SourceState.READY or not stored(source).complete:
            Source.objects.filter(pk=source.pk).update(state=SourceState.WAITING)
            jobs.submit(unpack, source.pk)
