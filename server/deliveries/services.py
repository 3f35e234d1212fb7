"""Rendering deliverables. A frame task may run twice and gives the same file: it is written whole, then renamed."""

import io
import logging
import re
import shutil
import time
import zipfile
from collections.abc import Iterator, Sequence
from contextlib import suppress
from pathlib import Path
from typing import IO, Any, cast

from django.conf import settings
from django.db import IntegrityError, transaction

from config.errors import Refused, problem_of
from deliveries.models import UNFINISHED, Deliverable, Render, RenderedFrame, RenderState
from jobs import chores
from jobs import services as jobs
from nexal.addresses import renamed_address
from nexal.errors import NO_ROOM, DiskError, NexalError, RenderError
from nexal.file_names import plain
from nexal.files import written_whole
from nexal.formats.announcing import announced
from nexal.formats.channel_files import MANIFEST_SUFFIX
from nexal.formats.reading import BlackSource, StoredSource
from nexal.formats.targets import target_of
from nexal.recipe import Output, Recipe, is_numbered, numbered_file, parse_output, parse_recipe
from nexal.session import output_feed, output_file, output_path, render_output, sources_behind
from nexal.timing import choose
from nexal.work import working
from projects.models import Shot
from projects.news import RENDERS, tell
from projects.references import Names, refers
from sources.models import SourceFrame, SourceState
from sources.sequences import FileAtFrame, files_at
from sources.services import library, unpacked
from stage.services import engine, plan, source_rows
from stage.work import JobWork

log = logging.getLogger("nexal.deliveries")
CUT_OFF_SECONDS = 3600.0
"""What is being written is touched more often than this."""

ARCHIVE_BLOCK = 1 << 20
"""Bytes of a file that are sent at a time."""

INTERNAL = {
    "code": "internal",
    "message": "something went wrong on the server",
    "where": "",
    "remedy": "try again; if it happens again, report it with the server's log",
}


def checked_spec(spec: dict[str, Any]) -> Output:
    """An output that can be written. Raises NexalError."""
    output = parse_output(spec, "deliverable")
    target_of(output)
    return output


@refers("deliveries.Deliverable.spec", news=RENDERS)
def _follow(shot: int, names: Names) -> bool:
    changed = []
    for deliverable in Deliverable.objects.filter(shot=shot):
        before = deliverable.spec["from"]
        if isinstance(before, str):
            now: Any = renamed_address(before, names)
        else:
            now = {channel: renamed_address(address, names) for channel, address in before.items()}
        if now != before:
            deliverable.spec = deliverable.spec | {"from": now}
            changed.append(deliverable)
    Deliverable.objects.bulk_update(changed, ["spec"])
    return bool(changed)


def create(shot: Shot, name: str, spec: dict[str, Any]) -> Deliverable:
    """A new deliverable under a name of its own. Raises Refused where the name is taken."""
    if not re.fullmatch(r"[a-z][a-z0-9_]{0,62}", name):
        raise Refused(
            422,
            "name",
            f"'{name}' is not a name for a deliverable",
            where="name",
            remedy="use lower case letters, digits and _, starting with a letter",
        )
    output = checked_spec(spec).model_dump(mode="json", by_alias=True, exclude_defaults=True)
    try:
        with transaction.atomic():
            return Deliverable.objects.create(shot=shot, name=name, spec=output)
    except IntegrityError:
        raise Refused(
            409, "name_taken", f"there is a deliverable '{name}' already", where="name", remedy="choose another name"
        ) from None


MOST_FRAMES = 20_000


def frames_of(file: str, first: int, last: int, step: int) -> range:
    """The frames of a render to a file name. Raises Refused where there are none, too many, or more than names."""
    frames = range(first, last + 1, step)
    if not 1 <= len(frames) <= MOST_FRAMES:
        raise Refused(
            422,
            "range",
            f"frames {first} to {last} are {len(frames) or 'none'}",
            where="range",
            remedy=f"give the first before the last, {MOST_FRAMES} frames at the most",
        )
    if len(frames) > 1 and not is_numbered(file):
        raise Refused(
            422,
            "numbered",
            f"{len(frames)} frames would be written to one file",
            where="file",
            remedy="put a number into its name, such as %04d, or render one frame",
        )
    return frames


MOST_LOOKED_AT = 24
"""Frames of a range that are compared before it is rendered."""


def announcement(shot: Shot, recipe: Recipe, name: str, spec: dict[str, Any], frames: range) -> str:
    """What the files of an output will hold, in one line.

    Raises NexalError where it can't be written, or nothing is there to be written.
    """
    output = checked_spec(spec)
    planned = plan(shot, recipe, frames[0])
    line = announced(output, output_feed(planned, output).description).line()
    file = output_file(planned, name, output, shot.name)
    first, last = (numbered_file(file, frame) for frame in (frames[0], frames[-1]))
    if output.split:
        return f"{line}; a file for each channel, in an archive for each frame"
    return f"{line}; one file, {first}" if len(frames) == 1 else f"{line}; {len(frames)} files, {first} to {last}"


def is_still(shot: Shot, recipe: Recipe, spec: dict[str, Any], frames: range) -> bool:
    """Whether the frames of a range, as far as they are looked at, would all hold the same picture."""
    output = checked_spec(spec)
    places = range(MOST_LOOKED_AT + 1)
    looked_at = {frames[round(place * (len(frames) - 1) / MOST_LOOKED_AT)] for place in places}
    return len(frames) > 1 and len({output_feed(plan(shot, recipe, at), output).node.digest for at in looked_at}) == 1


def start(
    deliverable: Deliverable,
    author: int | None,
    first: int = 1,
    last: int = 1,
    step: int = 1,
    after: Render | None = None,
) -> Render:
    """Render frames of a deliverable from its shot's present revision, but for those of a render before (`after`) that
    would come out the same. Raises Refused where the range is none."""
    head = deliverable.shot.head
    assert head is not None
    frames = frames_of(deliverable.spec["file"], first, last, step)
    written = ""
    # What stands in the way of it is told frame by frame.
    with suppress(NexalError):
        recipe = parse_recipe(head.recipe)
        written = announcement(deliverable.shot, recipe, deliverable.name, deliverable.spec, frames)
    with transaction.atomic():
        render = Render.objects.create(
            deliverable=deliverable,
            revision=head,
            spec=deliverable.spec,
            after=after,
            written=written,
            author_id=author,
            first_frame=first,
            last_frame=last,
            step=step,
        )
        RenderedFrame.objects.bulk_create([RenderedFrame(render=render, frame=frame) for frame in frames])
    tell(deliverable.shot_id, RENDERS)
    jobs.submit("render", render.pk)
    return render


def made_from_older(render: Render) -> set[int]:
    """The frames of a render for which a source has another frame of a later version in the shot's present revision."""
    head = render.deliverable.shot.head
    then, now = (row.recipe.get("sources", {}) if row else {} for row in (render.revision, head))
    changed: dict[str, tuple[int, int]] = {}
    for name, spec in then.items():
        present = now.get(name, {})
        if present.get("files") == spec.get("files") and present.get("version", 1) > spec.get("version", 1):
            changed[name] = spec.get("version", 1), present["version"]
    if not changed:
        return set()
    recipe, output = asked_for(render)
    behind = sources_behind(recipe, output.addresses)
    older: set[int] = set()
    for name, row in source_rows(render.deliverable.shot, recipe).items():
        if name not in changed or name not in behind:
            continue
        since, upto = changed[name]
        came = set(row.frames.filter(version__gt=since, version__lte=upto).values_list("number", flat=True))
        numbers = list(row.frames.filter(version=1).values_list("number", flat=True))
        for frame in render.frames.filter(state=RenderState.DONE).values_list("frame", flat=True):
            with suppress(NexalError):
                if choose(numbers, recipe.sources[name], frame).number in came:
                    older.add(frame)
    return older


def make_older_again(render: Render, author: int | None) -> Render:
    """A render of the shot's present revision that takes over what would come out the same: only the rest is made."""
    return start(render.deliverable, author, render.first_frame, render.last_frame, render.step, after=render)


def stop(render: Render, state: RenderState) -> None:
    """Pause or cancel a render: the frame that is worked at is finished, no other is begun."""
    Render.objects.filter(pk=render.pk, state__in=[*UNFINISHED, RenderState.PAUSED]).update(state=state)


def go_on(render: Render, frame: int | None = None) -> None:
    """Render what is not done of a render; or one frame of it again, whatever became of it."""
    rows = render.frames.exclude(state=RenderState.DONE) if frame is None else render.frames.filter(frame=frame)
    rows.update(state=RenderState.WAITING, error={})
    Render.objects.filter(pk=render.pk).exclude(state__in=UNFINISHED).update(state=RenderState.WAITING)
    jobs.submit("render", render.pk)


def remove(deliverable: Deliverable) -> None:
    """Forget a deliverable, what was rendered of it, and the files of that."""
    folders = [render_folder(render) for render in deliverable.renders.values_list("pk", flat=True)]
    deliverable.delete()
    for folder in folders:
        shutil.rmtree(folder, ignore_errors=True)


def render_folder(render: int) -> Path:
    return Path(settings.MEDIA_ROOT) / "deliveries" / str(render)


def frame_path(frame: RenderedFrame) -> Path:
    return Path(settings.MEDIA_ROOT) / frame.file


def newest_files(shot: Shot) -> list[tuple[str, Path]]:
    """The files of the newest render of each deliverable of a shot, where it is done, each under a name of its own."""
    found: dict[str, Path] = {}
    for deliverable in shot.deliverables.all():
        render = deliverable.renders.first()
        for name, path in files_of(render) if render else ():
            found[name if name not in found else f"{deliverable.name}_{name}"] = path
    return list(found.items())


def files_of(render: Render) -> list[tuple[str, Path]]:
    """The files of the frames of a render that are done, by name."""
    paths = [frame_path(frame) for frame in render.frames.filter(state=RenderState.DONE)]
    return [(path.name, path) for path in paths if path.is_file()]


class _Sent(io.RawIOBase):
    """What an archive writes, until it is sent."""

    def __init__(self) -> None:
        self.parts: list[bytes] = []

    def writable(self) -> bool:
        return True

    def write(self, part: Any) -> int:
        self.parts.append(bytes(part))
        return len(part)

    def taken(self) -> bytes:
        whole = b"".join(self.parts)
        self.parts.clear()
        return whole


def archived(files: Sequence[tuple[str, Path]]) -> Iterator[bytes]:
    """A zip archive of files as they are, made while it is sent: it needs no room of its own."""
    sent = _Sent()
    with zipfile.ZipFile(cast("IO[bytes]", sent), "w", zipfile.ZIP_STORED) as archive:
        for name, path in files:
            with path.open("rb") as file, archive.open(zipfile.ZipInfo(name), "w", force_zip64=True) as entry:
                while block := file.read(ARCHIVE_BLOCK):
                    entry.write(block)
                    yield sent.taken()
    yield sent.taken()


def run(render_id: int) -> None:
    """Render what is not done yet of a render (a job)."""
    render = (
        Render.objects.select_related("deliverable__shot", "revision", "after__revision").filter(pk=render_id).first()
    )
    if render is None:
        return
    # Paused or cancelled before it began, it stays so.
    if not Render.objects.filter(pk=render_id, state__in=UNFINISHED).update(state=RenderState.RENDERING):
        return
    try:
        with working(JobWork()):
            _render_frames(render)
    except Exception:
        # Whatever happened is in the log; the row must not stay at `rendering` for ever.
        render.frames.exclude(state=RenderState.DONE).update(state=RenderState.FAILED, error=INTERNAL)
        Render.objects.filter(pk=render_id).update(state=RenderState.FAILED)
        raise
    if not render.frames.filter(state__in=UNFINISHED).exists():
        failed = render.frames.filter(state=RenderState.FAILED).exists()
        ended = RenderState.FAILED if failed else RenderState.DONE
        Render.objects.filter(pk=render_id, state=RenderState.RENDERING).update(state=ended)


def _render_frames(render: Render) -> None:
    """Render the frames that are waiting, until the render is stopped: a few here, many by a scheduler's workers."""
    from deliveries import scheduled

    if render.after is not None:
        _take_over(render, render.after)
    if scheduled.wanted(render.frames.filter(state__in=UNFINISHED).count()):
        try:
            scheduled.render_frames(render, lambda frame, *what: _settled(render, frame, *what))
        except NexalError as error:
            problem = problem_of(error).dict()
            render.frames.filter(state__in=UNFINISHED).update(state=RenderState.FAILED, error=problem)
        return
    while True:
        # Asked anew each time: it may have been stopped, and frames asked for again.
        frame = render.frames.filter(state__in=UNFINISHED).first()
        if frame is None or not Render.objects.filter(pk=render.pk, state=RenderState.RENDERING).exists():
            return
        began = time.monotonic()
        found: list[Path] | Exception
        try:
            found = _render_frame(render, frame.frame)
        except (NexalError, OSError) as error:
            found = error
        if not _settled(render, frame, found, time.monotonic() - began):
            return


def _take_over(render: Render, before: Render) -> None:
    """Take the files of an earlier render over for the frames that wait and would come out the same."""
    if before.spec != render.spec:
        return
    (old, output), (recipe, _) = asked_for(before), asked_for(render)
    shot = render.deliverable.shot
    done = {frame.frame: frame for frame in before.frames.filter(state=RenderState.DONE)}
    for frame in render.frames.filter(state__in=UNFINISHED):
        earlier = done.get(frame.frame)
        if earlier is None:
            continue
        path, to = frame_path(earlier), render_folder(render.pk) / frame_path(earlier).name
        try:
            same = len({output_feed(plan(shot, each, frame.frame), output).node.digest for each in (old, recipe)}) == 1
            if same and path.is_file():
                to.parent.mkdir(parents=True, exist_ok=True)
                to.unlink(missing_ok=True)
                shutil.copyfile(path, to)
                _settled(render, frame, [to], earlier.seconds, earlier.warnings)
        except (NexalError, OSError) as error:
            # It is made as the others are.
            log.info("frame %s of render %s is not taken over: %s", frame.frame, before.pk, error)


def _settled(
    render: Render,
    frame: RenderedFrame,
    found: list[Path] | Exception,
    seconds: float,
    warnings: Sequence[str] = (),
) -> bool:
    """Keep what came of a frame: its files and warnings, or why there are none. False where nobody wants them now."""
    if isinstance(found, Exception):
        if not isinstance(found, NexalError | OSError):
            raise found
        frame.state, frame.error = RenderState.FAILED, problem_of(_told(found)).dict()
    else:
        path = _together(found) if len(found) > 1 else found[0]
        frame.file = str(path.relative_to(settings.MEDIA_ROOT))
        frame.state, frame.error = RenderState.DONE, {}
    row = RenderedFrame.objects.filter(pk=frame.pk)
    result = {"state": frame.state, "error": frame.error, "file": frame.file, "warnings": list(warnings)}
    if not row.update(**result, seconds=seconds):
        # The deliverable was removed meanwhile: nobody will ask for its files.
        shutil.rmtree(render_folder(render.pk), ignore_errors=True)
        return False
    jobs.progressed("render", render.pk)
    tell(render.deliverable.shot_id, RENDERS)
    return True


def _told(error: NexalError | OSError) -> NexalError:
    """A fault of the system in our words: it is that of one frame, and leaves the others alone."""
    if isinstance(error, NexalError):
        return error
    if error.errno in NO_ROOM:
        return DiskError("the file cannot be written")
    log.warning("a frame could not be read or written: %s", error)
    what = error.strerror or type(error).__name__
    return RenderError(f"a file could not be read or written ({what})", remedy="render it again, or see the log")


def asked_for(render: Render) -> tuple[Recipe, Output]:
    """The recipe of a render, with its one output."""
    recipe = parse_recipe(render.revision.recipe | {"outputs": {render.deliverable.name: render.spec}})
    return recipe, recipe.outputs[render.deliverable.name]


def _render_frame(render: Render, frame: int) -> list[Path]:
    deliverable = render.deliverable
    recipe, output = asked_for(render)
    chosen = needed(deliverable.shot, recipe, output, frame).values()
    sources = [found.kept for found in chosen if isinstance(found, FileAtFrame)]
    sources = [kept for kept in sources if kept.state != SourceState.FAILED]
    with library().using(kept.fingerprint for kept in sources):
        for kept in sources:
            unpacked(kept, lean=isinstance(kept, SourceFrame))
        planned = plan(deliverable.shot, recipe, frame)
        fingerprints = {
            name: reader.fingerprint
            for name, reader in planned.readers.items()
            if isinstance(reader, StoredSource | BlackSource)
        }
        folder = render_folder(render.pk)
        path = output_path(planned, deliverable.name, output, folder, deliverable.shot.name)
        return render_output(engine(), planned, output, path, fingerprints)


def needed(shot: Shot, recipe: Recipe, output: Output, frame: int) -> dict[str, FileAtFrame | NexalError]:
    """What stands at a frame of each import that an output is made of, by the recipe's names; or why nothing does."""
    names = sources_behind(recipe, output.addresses)
    rows = {name: row for name, row in source_rows(shot, recipe).items() if name in names}
    return dict(files_at(rows, recipe.sources, frame))


def _together(files: list[Path]) -> Path:
    """The files of a picture's channels as one, called as their manifest is."""
    manifest = next(file for file in files if file.name.endswith(MANIFEST_SUFFIX))
    return _archive(manifest.with_name(manifest.name.removesuffix(MANIFEST_SUFFIX) + ".zip"), files)


def _archive(path: Path, files: list[Path]) -> Path:
    """Files put together as they are into one to be downloaded, whole or not at all; they are gone afterwards."""
    with written_whole(path) as part, zipfile.ZipFile(part, "w") as archive:
        for file in files:
            archive.write(file, plain(file.name))
    for file in files:
        file.unlink()
    return path


def unfinished() -> list[int]:
    """Renders that a stopped server left."""
    return list(Render.objects.filter(state__in=UNFINISHED).values_list("pk", flat=True))


def give_up(render_id: int) -> None:
    """Say of a render that it is given up: it ended the server's process again and again."""
    error = INTERNAL | {"code": "given_up", "message": "rendering was cut off again and again"}
    RenderedFrame.objects.filter(render_id=render_id, state__in=UNFINISHED).update(
        state=RenderState.FAILED, error=error
    )
    Render.objects.filter(pk=render_id).update(state=RenderState.FAILED)


def clear_leftovers() -> None:
    """Files of renders that are no more, and halves of files (a chore)."""
    folder = Path(settings.MEDIA_ROOT) / "deliveries"
    known = {str(pk) for pk in Render.objects.values_list("pk", flat=True)}
    chores.clear((path for path in folder.glob("*") if path.name not in known), CUT_OFF_SECONDS)
    for pattern in ("*/**/.*", "*/**/*.part"):
        chores.clear(folder.glob(pattern), CUT_OFF_SECONDS)
