"""Sources of many numbered files: frames are added one by one, and unpacked by as many workers as there are cores."""

import hashlib
import logging
import os
import re
from collections.abc import Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor, as_completed
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

from django.core.files import File
from django.db import transaction

from config.errors import Refused, problem_of
from jobs import services as jobs
from nexal.errors import DiskError, NexalError, SourceError
from nexal.file_names import free, plain
from nexal.formats.decoding import video_info
from nexal.formats.store import frame_digest
from nexal.recipe import MOST_PADDING, SourceSpec, numbered_file
from nexal.timing import choose
from projects.models import Shot
from projects.news import SOURCES, tell
from sources import ranges, services
from sources.models import UNFINISHED, Kept, Source, SourceFrame, SourceState

log = logging.getLogger("nexal.sequences")

DECODERS = os.cpu_count() or 2
MOST_FRAMES = 20_000


Taken = Literal["new", "differs", "equal"]
"""What a frame was beside those that stood there."""

PATTERN = re.compile(r"(?P<lead>.*?)(?P<link>[._ -]*)%(?P<padding>0\d+)?d(?P<suffix>\.\w{1,16})")


def create(shot: Shot, pattern: str) -> Source:
    """A source of many frames, none of which is there yet. Raises Refused where the name is no pattern."""
    found = PATTERN.fullmatch(Path(pattern.replace("\\", "/")).name)
    if not found or int(found["padding"] or 0) > MOST_PADDING:
        raise Refused(
            422, "pattern", f"'{pattern}' is no name for numbered files", where="files", remedy="such as name.%04d.exr"
        )
    lead = plain(found["lead"]) or "frames"
    rest = f"{found['link'].replace(' ', '_')}%{found['padding'] or ''}d{found['suffix']}"

    def name() -> str:
        return free(lead, rest, lambda made: services.is_taken(shot, made))

    source = Source(shot=shot, files=name(), numbered=True, size=0, fingerprint="")
    services.saved(source, name)
    return source


class _Equal(Exception):
    """The frame that stands there has the same bytes."""


def add_frame(source: Source, number: int, file: "File[Any]", into: int | None = None) -> Taken:
    """Keep a file as a frame of a source, and start to unpack it.

    Where a frame of that number stands, its bytes are compared: equal ones are not kept again, others make a new
    version of the source, or go `into` its newest one, if that has none of this number yet. Raises Refused where it is
    no source of numbered files, or has too many.
    """
    if not source.numbered or source.original:
        raise Refused(422, "numbered", "it is a single file", where=source.files, remedy="import this one by itself")
    count = source.frames.count()
    if count >= MOST_FRAMES:
        raise Refused(413, "too_many", f"has {count} frames already", where=source.files, remedy="split the shot")
    name = numbered_file(source.files, number)
    frame = SourceFrame(source=source, number=number, size=file.size or 0, fingerprint="")

    @transaction.atomic
    def save() -> None:
        locked = Source.objects.select_for_update().get(pk=source.pk)
        there = locked.frames.filter(number=number).last()
        if there is not None:
            if there.fingerprint == frame.fingerprint:
                raise _Equal
            fits = into == locked.version and there.version < locked.version
            frame.version = locked.version if fits else locked.version + 1
        frame.save()
        Source.objects.filter(pk=source.pk).update(
            state=SourceState.WAITING, problem={}, version=max(locked.version, frame.version)
        )

    try:
        services.keep(frame, name, file, save)
    except _Equal:
        return "equal"
    jobs.submit("unpack", source.pk)
    return "new" if frame.version == 1 else "differs"


def complete_versions(shot: int, recipe: dict[str, Any], before: Mapping[str, Any]) -> dict[str, Any]:
    """A recipe whose sources name the version of their frames that they read.

    What comes in, or reads other files than in the recipe `before`, reads the newest; what stays reads what it did.
    A source without a version reads the first: so none is written where that is the newest.
    """
    specs: dict[str, dict[str, Any]] = recipe.get("sources", {})
    known = before.get("sources", {})
    open_ones = [name for name, spec in specs.items() if spec.get("files") and "version" not in spec]
    newest = dict(
        Source.objects.filter(
            shot=shot, version__gt=1, files__in=[specs[name]["files"] for name in open_ones]
        ).values_list("files", "version")
        if open_ones
        else ()
    )
    if not newest:
        return recipe
    completed = dict(specs)
    for name in open_ones:
        files = specs[name]["files"]
        earlier = known.get(name)
        version = newest.get(files) if earlier is None or earlier.get("files") != files else earlier.get("version")
        if version is not None:
            completed[name] = specs[name] | {"version": version}
    return recipe | {"sources": completed}


def unpack_frames(source: Source) -> None:
    """Unpack what waits of a source, several at once (part of a job). Raises Later where there is no room."""
    Source.objects.filter(pk=source.pk).update(state=SourceState.READING)
    if source.original and not source.frames.exists() and not _counted(source):
        return
    ready = source.frames.filter(state=SourceState.READY).exists()
    with ThreadPoolExecutor(DECODERS, thread_name_prefix="nexal-frames") as pool:
        while True:
            waiting = list(source.frames.filter(state__in=UNFINISHED)[: 2 * DECODERS if ready else 1])
            if not waiting:
                break
            source.frames.filter(pk__in=[frame.pk for frame in waiting]).update(state=SourceState.READING)
            # The first is looked at before all others: it is unpacked with everything that the wall shows.
            work = {pool.submit(services.unpacked, frame, ready): frame for frame in waiting}
            full: DiskError | None = None
            for future in as_completed(work):
                row = source.frames.filter(pk=work[future].pk)
                try:
                    future.result()
                except DiskError as error:
                    full = error
                    row.update(state=SourceState.WAITING)
                except NexalError as error:
                    problem = problem_of(error).dict() | {"where": f"frame {work[future].number}"}
                    row.update(state=SourceState.FAILED, problem=problem)
                except Exception:
                    log.exception("frame %s of source %s", work[future].number, source.pk)
                    row.update(state=SourceState.FAILED, problem=services.INTERNAL)
                else:
                    ready = True
                    row.update(state=SourceState.READY, problem={})
            tell(source.shot_id, SOURCES)
            if full is not None:
                problem = problem_of(full).dict() | {"where": source.files}
                Source.objects.filter(pk=source.pk).update(state=SourceState.WAITING, problem=problem)
                raise jobs.Later(services.ROOM_SECONDS) from full
    settle(source)


def _counted(source: Source) -> bool:
    """A row for each frame of a video; False where it can't be read, which its own row tells then."""
    try:
        info = video_info(Path(source.original.path))
    except NexalError as error:
        problem = problem_of(error).dict() | {"where": source.files}
        Source.objects.filter(pk=source.pk).update(state=SourceState.FAILED, problem=problem)
        return False
    rows = [
        SourceFrame(
            source=source,
            number=number,
            original=source.original.name,
            size=0,
            fingerprint=frame_digest(source.fingerprint, number),
        )
        for number in info.numbers
    ]
    SourceFrame.objects.bulk_create(rows, ignore_conflicts=True)
    Source.objects.filter(pk=source.pk).update(rate=info.rate)
    return True


def settle(source: Source) -> None:
    """State, size and fingerprint of a source from those of its frames; the shot's range follows them."""
    ranges.follow(source.shot_id)
    tell(source.shot_id, SOURCES)
    rows = list(source.frames.standing().values_list("number", "fingerprint", "state", "size"))
    states = {state for _, _, state, _ in rows}
    problem: dict[str, Any] = {}
    if not rows or states & set(UNFINISHED):
        state = SourceState.WAITING
    elif SourceState.READY in states:
        state = SourceState.READY
    else:
        state = SourceState.FAILED
        problem = source.frames.standing().values_list("problem", flat=True)[0]
    if source.original:
        # A video has its own.
        Source.objects.filter(pk=source.pk).update(state=state, problem=problem)
        return
    digest = hashlib.blake2b(digest_size=32)
    for number, fingerprint, _, _ in rows:
        digest.update(f"{number} {fingerprint}\n".encode())
    Source.objects.filter(pk=source.pk).update(
        state=state, problem=problem, fingerprint=digest.hexdigest(), size=sum(size for *_, size in rows)
    )


@dataclass(frozen=True)
class FileAtFrame:
    """The file that stands at a frame: an import or one of its frames, its number, and whether black stands there."""

    kept: Kept
    number: int | None = None
    black: bool = False


def files_at(
    rows: Mapping[str, Source], specs: Mapping[str, SourceSpec], frame: int
) -> Iterator[tuple[str, FileAtFrame | NexalError]]:
    """What stands at a frame of each import, by the recipe's names; or why nothing does."""
    numbered = {row.pk for row in rows.values() if row.numbered}
    numbers: dict[int, list[int]] = {pk: [] for pk in numbered}
    if numbered:
        # What came where nothing was stands in all versions.
        first = SourceFrame.objects.filter(source__in=numbered, version=1)
        for pk, number in first.values_list("source_id", "number"):
            numbers[pk].append(number)
    for name, row in rows.items():
        if not row.numbered:
            yield name, FileAtFrame(row)
        elif not numbers[row.pk]:
            yield name, SourceError("has no frame yet", remedy="wait until its first frame is here")
        else:
            try:
                choice = choose(numbers[row.pk], specs[name], frame)
            except NexalError as error:
                yield name, error
                continue
            upto = row.frames.filter(number=choice.number, version__lte=specs[name].version or 1)
            found = upto.select_related("source").last()
            if found is None:  # taken away since its number was looked up
                yield name, SourceError(f"frame {choice.number} was taken away just now", remedy="look again")
            else:
                yield name, FileAtFrame(found, choice.number, choice.black)
