"""Importing: the original is kept, its planes are unpacked by a worker process."""

from collections.abc import Sequence
from functools import cache
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from django.conf import settings
from django.core.files import File

from config.errors import Refused, problem_of
from jobs import services as jobs
from nexal.errors import NexalError
from nexal.file_names import free, plain
from nexal.formats.channel_files import MANIFEST_SUFFIX, Given, read_manifest, reassemble
from nexal.formats.store import Library, fingerprint
from nexal.formats.stored import StoredFile
from projects.models import Shot
from sources.models import Source, SourceState

MOST_MANIFEST_BYTES = 4 << 20

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
    """The decoded file of a source as far as it is there. To look at it does not count as use."""
    return library().stored(source.fingerprint)


def used(source: Source) -> StoredFile:
    """The decoded file of a source, to be read from now on: it is kept, and unpacked again where it was dropped."""
    file = library().use(source.fingerprint)
    if source.state == SourceState.READY and not file.complete:
        # One request begins it, however many ask.
        dropped = Source.objects.filter(pk=source.pk, state=SourceState.READY)
        if dropped.update(state=SourceState.WAITING):
            jobs.submit("unpack", source.pk)
        source.refresh_from_db()
        file = library().use(source.fingerprint)
    return file


def unpacked(source: Source) -> StoredFile:
    """The decoded file of a source, unpacked here and now where it is not there. Raises NexalError."""
    return library().unpack(Path(source.original.path), source.fingerprint)


def free_name(shot: Shot, name: str) -> str:
    """A file name that no source of the shot has or had, as close to `name` as can be."""
    taken = set(Source.objects.filter(shot=shot).values_list("files", flat=True))
    stem, dot, suffix = (plain(Path(name.replace("\\", "/")).name) or "picture").rpartition(".")
    return free(stem, dot + suffix, taken.__contains__) if dot else free(suffix, "", taken.__contains__)


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
    jobs.submit("unpack", source.pk)
    source.refresh_from_db()
    return source


def reassemble_files(shot: Shot, files: Sequence["File[Any]"]) -> tuple[Source, list[str]]:
    """One source from channel files and their manifest, and what is worth telling about them.

    Each file is unpacked by a worker process, as an import is. Raises NexalError.
    """
    listings = [file for file in files if (file.name or "").endswith(MANIFEST_SUFFIX)]
    if len(listings) != 1:
        raise Refused(
            422,
            "manifest",
            f"{len(listings) or 'no'} manifest{'s' if len(listings) > 1 else ''} among {len(files)} files",
            where="files",
            remedy=f"add the channel files together with their one manifest, whose name ends in {MANIFEST_SUFFIX}",
        )
    manifest = read_manifest(listings[0].read(MOST_MANIFEST_BYTES), listings[0].name or "manifest")
    with TemporaryDirectory(prefix="nexal-channels-") as folder:
        given = []
        for number, file in enumerate(files):
            if file is listings[0]:
                continue
            name = Path(file.name or f"file{number}").name
            path = Path(folder) / f"{number}-{name}"
            with path.open("wb") as target:
                for chunk in file.chunks():
                    target.write(chunk)
            digest = fingerprint(path)
            try:
                given.append(Given(name, library().unpack(path, digest), digest))
            except NexalError as error:
                raise error.at(name) from None
        joined, told = reassemble(manifest, given, Path(folder) / "joined")
        with joined.open("rb") as whole:
            return import_file(shot, joined.name, File(whole, joined.name)), told


def unpack(source_id: int) -> None:
    """Unpack one source (a job); its row says how it went."""
    source = Source.objects.filter(pk=source_id).first()
    if source is None:
        return
    Source.objects.filter(pk=source_id).update(state=SourceState.READING)
    try:
        file = library().unpack(Path(source.original.path), source.fingerprint)
    except NexalError as error:
        problem = problem_of(error).dict() | {"where": source.files}
        Source.objects.filter(pk=source_id).update(state=SourceState.FAILED, problem=problem)
        return
    except Exception:
        # Whatever happened is in the log; the row must not stay at `reading` for ever.
        Source.objects.filter(pk=source_id).update(state=SourceState.FAILED, problem=INTERNAL)
        raise
    header = {key: value for key, value in file.header.items() if key != "channels"}
    Source.objects.filter(pk=source_id).update(state=SourceState.READY, problem={}, header=header)


def unfinished() -> list[int]:
    """Imports that were not finished. What the plane store dropped is unpacked again when somebody asks for it."""
    return list(
        Source.objects.filter(state__in=[SourceState.WAITING, SourceState.READING]).values_list("pk", flat=True)
    )


def give_up(source_id: int) -> None:
    """Say of an import that it is given up: its unpacking ended the server's process again and again."""
    problem = {
        "code": "given_up",
        "message": "its unpacking was cut off again and again",
        "where": "",
        "remedy": "save the file anew, or import a smaller part of it",
    }
    Source.objects.filter(pk=source_id).update(state=SourceState.FAILED, problem=problem)
