"""Importing: the original is kept, its planes are unpacked by a worker process."""

from collections.abc import Callable, Sequence
from functools import cache
from pathlib import Path
from tempfile import TemporaryDirectory, gettempdir
from typing import Any

from django.conf import settings
from django.core.files import File
from django.db import IntegrityError, transaction

from config.errors import Refused, problem_of
from jobs import chores
from jobs import services as jobs
from nexal.errors import NO_ROOM, DiskError, NexalError
from nexal.file_names import free, plain
from nexal.formats.channel_files import MANIFEST_SUFFIX, Given, read_manifest, reassemble
from nexal.formats.store import Library, fingerprint
from nexal.formats.stored import StoredFile
from nexal.formats.video import is_video
from nexal.hashed_ids import manifest_files, manifest_in
from projects.models import Shot
from projects.news import SOURCES, tell
from sources.models import UNFINISHED, Kept, Manifest, Source, SourceFrame, SourceState, UsedName

MOST_MANIFEST_BYTES = 4 << 20
CHANNELS_PREFIX = "nexal-channels-"
MOST_NAMES = 50
"""How often a name is looked for that nobody takes meanwhile."""
ROOM_SECONDS = 20.0
"""How long an import waits for room on the disk before it is tried again."""

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


def shown_frame(source: Source, number: int | None = None) -> Kept | None:
    """The file that tells what a source holds: itself, or one of its frames, the first that is there by default."""
    if not source.numbered:
        return source
    frames = source.frames.standing() if number is None else source.frames.standing().filter(number=number)
    return frames.filter(state=SourceState.READY).first() or frames.first()


def stored(kept: Kept) -> StoredFile:
    """A decoded file as far as it is there. To look at it does not count as use."""
    return library().stored(kept.fingerprint)


def used(kept: Kept) -> StoredFile:
    """A decoded file, to be read from now on: it is kept, and unpacked again where it was dropped."""
    file = library().use(kept.fingerprint)
    if kept.state == SourceState.READY and not file.complete:
        # One request begins it, however many ask.
        dropped = type(kept)._default_manager.filter(pk=kept.pk, state=SourceState.READY)
        if dropped.update(state=SourceState.WAITING):
            jobs.submit("unpack", kept.source_pk)
        kept.refresh_from_db()
        file = library().use(kept.fingerprint)
    return file


def unpacked(kept: Kept, lean: bool = False) -> StoredFile:
    """A decoded file, unpacked here and now where it is not there; `lean` without proxies. Raises NexalError."""
    frame = kept.number if isinstance(kept, SourceFrame) and is_video(kept.source.files) else None
    return library().unpack(Path(kept.original.path), kept.fingerprint, lean=lean, frame=frame)


def manifests_of(kept: Kept, file: StoredFile | None = None) -> dict[str, str]:
    """The names of its ids that were given in files, by what its header calls them; mostly it asks for none, as its
    decoded file tells where it is there."""
    if file is not None and not manifest_files(file.header.get("attributes", {})):
        return {}
    return dict(Manifest.objects.filter(source=kept.source_pk).values_list("file", "text"))


def add_manifest(shot: Shot, name: str, content: bytes) -> tuple[Source, str]:
    """Keep a file with names of ids for the source of a shot that asks for it: by its name, else for the only one.

    Raises FormatError for what is no manifest, Refused where nothing asks for it.
    """
    text = manifest_in(content, name)
    asked = []
    for source in shot.sources.all():
        shown = shown_frame(source)
        file = stored(shown) if shown else None
        if file is not None and file.started:
            asked += [(source, wanted) for wanted in manifest_files(file.header.get("attributes", {}))]
    fits = [(source, wanted) for source, wanted in asked if wanted.lower() == name.lower()]
    chosen = fits or (asked if len(asked) == 1 else [])
    if not chosen:
        wanted = ", ".join(sorted({each for _, each in asked}))
        raise Refused(
            422,
            "unasked_manifest",
            f"no picture of this shot asks for it{f'; they ask for {wanted}' if wanted else ''}",
            where=name,
            remedy="import the picture first, and give the file the name that it asks for",
        )
    for source, wanted in chosen:
        Manifest.objects.update_or_create(source=source, file=wanted, defaults={"text": text})
    return chosen[0]


def free_name(shot: Shot, name: str) -> str:
    """A file name that no source of the shot has or had, as close to `name` as can be.

    The database says what is the same name: its collation takes `Moth` and `möth` for one.
    """
    stem, dot, suffix = (plain(Path(name.replace("\\", "/")).name) or "picture").rpartition(".")
    if not dot:
        stem, suffix = suffix, ""
    return free(stem, dot + suffix, lambda made: is_taken(shot, made))


def is_taken(shot: Shot, files: str) -> bool:
    """Whether a source of the shot has this name, or had it before it was removed."""
    return any(names.objects.filter(shot=shot, files=files).exists() for names in (Source, UsedName))


def import_file(shot: Shot, name: str, file: "File[Any]") -> Source:
    """Keep a file and start to unpack it. Raises DiskError without room; then nothing of it is left."""
    source = Source(shot=shot, files=free_name(shot, name), size=file.size or 0, fingerprint="")
    source.numbered = is_video(source.files)
    keep(source, source.files, file, lambda: saved(source, lambda: free_name(shot, name)))
    jobs.submit("unpack", source.pk)
    source.refresh_from_db()
    return source


def keep(kept: Kept, name: str, file: "File[Any]", save: Callable[[], None]) -> None:
    """Keep a file as that of a row, and save the row. Raises DiskError without room; then nothing of it is left."""
    path: Path | None = None
    try:
        kept.original.save(name, file, save=False)
        path = Path(kept.original.path)
        kept.fingerprint = fingerprint(path)
        save()
    except BaseException as error:
        # No row knows of the file.
        if path is not None:
            path.unlink(missing_ok=True)
        if isinstance(error, OSError) and error.errno in NO_ROOM:
            raise DiskError("the file cannot be kept", where=name, needed=file.size) from None
        raise


def saved(source: Source, another: Callable[[], str]) -> None:
    """Save the row, under another name where somebody else took its own meanwhile."""
    for _ in range(MOST_NAMES):
        try:
            with transaction.atomic():
                source.save()
            return
        except IntegrityError:
            source.files = another()
    raise Refused(409, "name_taken", "no free name was found", where=source.files, remedy="import the file again")


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
    with TemporaryDirectory(prefix=CHANNELS_PREFIX) as folder:
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
    """Unpack one source (a job); its row says how it went. Raises Later where there is no room for it now."""
    row = Source.objects.filter(pk=source_id)
    source = row.first()
    if source is None:
        return
    if source.numbered:
        from sources.sequences import unpack_frames

        unpack_frames(source)
        return
    row.update(state=SourceState.READING)
    try:
        unpacked(source)
    except DiskError as error:
        row.update(state=SourceState.WAITING, problem=problem_of(error).dict() | {"where": source.files})
        raise jobs.Later(ROOM_SECONDS) from error
    except NexalError as error:
        row.update(state=SourceState.FAILED, problem=problem_of(error).dict() | {"where": source.files})
    except Exception:
        # Whatever happened is in the log; the row must not stay at `reading` for ever.
        row.update(state=SourceState.FAILED, problem=INTERNAL)
        raise
    else:
        row.update(state=SourceState.READY, problem={})
    finally:
        tell(source.shot_id, SOURCES)


def unpack_again(source: Source) -> None:
    """Try once more what failed: its file is here, and what stood in the way may be gone."""
    again = Source.objects.filter(pk=source.pk, state=SourceState.FAILED).update(state=SourceState.WAITING, problem={})
    frames = source.frames.filter(state=SourceState.FAILED).update(state=SourceState.WAITING, problem={})
    if again or frames:
        jobs.submit("unpack", source.pk)
    source.refresh_from_db()


def unfinished() -> list[int]:
    """Imports that were not finished. What the plane store dropped is unpacked again when somebody asks for it."""
    # Numbered files may still be on their way; a video is here, and its frames are counted first.
    single = (
        Source.objects.filter(state__in=UNFINISHED).exclude(numbered=True, original="").values_list("pk", flat=True)
    )
    frames = SourceFrame.objects.filter(state__in=UNFINISHED).order_by().values_list("source_id", flat=True).distinct()
    return list({*single, *frames})


def give_up(source_id: int) -> None:
    """Say of an import that it is given up: its unpacking ended the server's process again and again."""
    problem = {
        "code": "given_up",
        "message": "its unpacking was cut off again and again",
        "where": "",
        "remedy": "save the file anew, or import a smaller part of it",
    }
    SourceFrame.objects.filter(source_id=source_id, state=SourceState.READING).update(
        state=SourceState.FAILED, problem=problem
    )
    Source.objects.filter(pk=source_id).update(state=SourceState.FAILED, problem=problem)


def remove(source: Source) -> None:
    """Delete a source and its file. What it was unpacked to goes when the store needs its room.

    Raises Refused where the shot's recipe, as it is now, still reads it.
    """
    head = source.shot.head
    specs = (head.recipe if head else {}).get("sources", {})
    users = [name for name, spec in specs.items() if spec.get("files") == source.files]
    if users:
        raise Refused(
            409,
            "in_use",
            f"the recipe reads it as '{users[0]}'",
            where=source.files,
            remedy="take it out of the recipe first",
        )
    originals = originals_of(source)
    with transaction.atomic():
        UsedName.objects.get_or_create(shot=source.shot, files=source.files)
        source.delete()
    release(originals)


def originals_of(source: Source) -> list[str]:
    """The names of the files that a source keeps."""
    return [kept.original.name or "" for kept in (source, *source.frames.all()) if kept.original]


def release(originals: Sequence[str]) -> None:
    """Delete files that no row names any more: a duplicated shot has the same files as the one that it was made of."""
    for name in dict.fromkeys(originals):
        if not any(rows.filter(original=name).exists() for rows in (Source.objects, SourceFrame.objects)):
            (Path(settings.MEDIA_ROOT) / name).unlink(missing_ok=True)


def duplicate(shot: Shot, to: Shot) -> None:
    """Give a shot the sources of another. Their files are not stored twice."""
    # Who would delete one meanwhile waits until its copy is there.
    for source in Source.objects.select_for_update().filter(shot=shot):
        own = source.pk
        source.pk, source.shot = None, to
        source.save(force_insert=True)
        frames = list(SourceFrame.objects.select_for_update().filter(source=own))
        for frame in frames:
            frame.pk, frame.source = None, source
        SourceFrame.objects.bulk_create(frames)
        manifests = list(Manifest.objects.filter(source=own))
        for manifest in manifests:
            manifest.pk, manifest.source = None, source
        Manifest.objects.bulk_create(manifests)
        if source.state in UNFINISHED or any(frame.state in UNFINISHED for frame in frames):
            jobs.submit("unpack", source.pk)


def clear_leftovers() -> None:
    """What killed processes left of imports (a chore)."""
    media = Path(settings.MEDIA_ROOT)
    chores.clear(Path(settings.FILE_UPLOAD_TEMP_DIR).glob("*"))
    chores.clear(Path(gettempdir()).glob(f"{CHANNELS_PREFIX}*"))
    library().clear()
    kept = set(Source.objects.values_list("original", flat=True))
    kept |= set(SourceFrame.objects.values_list("original", flat=True))
    originals = (path for path in media.glob("originals/*/*") if str(path.relative_to(media)) not in kept)
    chores.clear(originals)
