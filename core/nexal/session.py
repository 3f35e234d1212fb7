"""Recipes run from files: sources opened through a plane store, outputs written. What the command line stands on."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import tempfile
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field, replace
from fractions import Fraction
from pathlib import Path
from typing import Any

from nexal.addresses import split_address
from nexal.code_version import version_of
from nexal.engine import Cancellation, Engine, Plan, Reader
from nexal.engine.plan import Feed, addresses_of, origin
from nexal.errors import FormatError, NexalError, RecipeError, SourceError
from nexal.files import Stamp, stamp_of
from nexal.formats.channel_files import split
from nexal.formats.decoded import untagged
from nexal.formats.decoding import video_info
from nexal.formats.locks import acquire
from nexal.formats.reading import BlackSource, StoredSource, reading
from nexal.formats.store import Library, fingerprint, frame_digest
from nexal.formats.stored import StoredFile
from nexal.formats.targets import Target, target_of, written_window
from nexal.formats.video import VideoInfo, is_video
from nexal.formats.writing import made_note, provenance, write
from nexal.hashed_ids import manifest_files, manifest_in
from nexal.picture import Alpha, Picture, Window
from nexal.recipe import Output, Recipe, SourceSpec, is_numbered, numbered_file, numbers_in, worded_file
from nexal.timing import choose, range_of

STORE_BYTES, IN_USE_SECONDS = 6 << 30, 30.0
"""What the decoded planes of a session may take on the disk, and how long those of a frame are kept for sure."""
MANIFEST_BYTES = 8 << 20
"""What a file with names of ids may be long: as long as those in a header may be."""
SESSION_PREFIX, ALIVE = "nexal-session-", "alive"
NEWBORN_SECONDS = 120.0
"""How long a session's file may be there before its lock is held, on the busiest machine."""


def clear_left_sessions() -> None:
    """Delete the folders of sessions whose processes were killed."""
    for folder in Path(tempfile.gettempdir()).glob(f"{SESSION_PREFIX}*"):
        with suppress(OSError):
            # Between a file and its lock there is a moment: who was just born is not taken for dead.
            if time.time() - (folder / ALIVE).stat().st_mtime < NEWBORN_SECONDS:
                continue
            lock = acquire(folder / ALIVE, wait=False)
            if lock is not None:
                shutil.rmtree(folder, ignore_errors=True)
                os.close(lock)


@dataclass
class Session:
    """Sources of a recipe on disk. Decoded planes live in a temporary folder for as long as the session does."""

    engine: Engine = field(default_factory=Engine)
    warn: Callable[[str], None] = lambda text: None

    def __post_init__(self) -> None:
        clear_left_sessions()
        self._folder = tempfile.TemporaryDirectory(prefix=SESSION_PREFIX)
        # Held for as long as the process lives: so that another one knows whose folder was left.
        self._alive = acquire(Path(self._folder.name) / ALIVE)
        self._library = Library(Path(self._folder.name), STORE_BYTES, IN_USE_SECONDS)
        # What is known of a file holds for as long as it is the same file: a session may live for days.
        self._fingerprints: dict[Path, tuple[Stamp, str]] = {}
        self._videos: dict[Path, tuple[Stamp, VideoInfo]] = {}
        self._told: set[tuple[str, str]] = set()

    def __enter__(self) -> Session:
        return self

    def __exit__(self, *_: object) -> None:
        self._library.close()
        self._folder.cleanup()
        if self._alive is not None:
            os.close(self._alive)
            self._alive = None

    def open(
        self,
        path: Path,
        spec: SourceSpec | None = None,
        number: int | None = None,
        manifests: Mapping[str, str] | None = None,
    ) -> StoredSource:
        """A picture file as a source, as it is on the disk now.

        `manifests` are names of ids by the files that its header asks for; where none are given they are looked for
        beside it. Raises SourceError or FormatError, placed at the file.
        """
        path, stored, digest = self._unpacked(path)
        texts = dict(manifests) if manifests else self._manifests(path, stored)
        return reading(stored, spec or SourceSpec(), digest, number, texts)

    def _unpacked(self, path: Path, frame: int | None = None) -> tuple[Path, StoredFile, str]:
        """The real path of a file, what it holds (or `frame` of a video), and its fingerprint; decoded where it is not.

        Raises SourceError or FormatError, placed at the file.
        """
        if not path.is_file():
            raise SourceError("there is no such file", where=str(path), remedy="check the path")
        path = path.resolve()
        try:
            for _ in range(MOST_TRIES):
                stamp = stamp_of(path)
                digest = self._fingerprint(path, stamp)
                if frame is not None:
                    digest = frame_digest(digest, frame)
                stored = self._library.unpack(path, digest, lean=True, frame=frame)
                if stamp_of(path) == stamp:
                    break
                # It was written to meanwhile: what was read may be half of the one and half of the other.
                self._library.forget(digest)
            else:
                raise SourceError("is being written to", where=str(path), remedy="wait until it is whole")
        except OSError as error:
            raise unreadable(path, error) from None
        for warning in stored.header["warnings"]:
            self._tell(path.name, warning, f"{path.name}: {warning}")
        return path, stored, digest

    def _fingerprint(self, path: Path, stamp: Stamp) -> str:
        known = self._fingerprints.get(path)
        if known is None or known[0] != stamp:
            known = self._fingerprints[path] = (stamp, fingerprint(path))
        return known[1]

    def _manifests(self, path: Path, stored: StoredFile) -> dict[str, str]:
        """Names of ids in files beside a picture, which its header asks for; what is wrong with one is told."""
        texts = {}
        for name in manifest_files(stored.header.get("attributes", {})):
            beside = path.parent / name
            try:
                if not beside.is_file() or beside.stat().st_size > MANIFEST_BYTES:
                    raise FormatError("is not there or too large", where=name, remedy="lay it beside the picture")
                texts[name] = manifest_in(beside.read_bytes(), name)
            except (NexalError, OSError) as error:
                self.warn(f"{path.name}: names of its ids: {error}")
        return texts

    @contextmanager
    def telling(self, warn: Callable[[str], None]) -> Iterator[None]:
        """Warnings go to another one for a while, also those that were told before."""
        before, told = self.warn, self._told
        self.warn, self._told = warn, set()
        try:
            yield
        finally:
            self.warn, self._told = before, told

    def made_note(self, path: Path) -> str:
        """What a picture says it was made of (`made_of`), where it is there and can be read to its end."""
        try:
            path, stored, _ = self._unpacked(path)
        except NexalError:
            return ""
        return "" if stored.header["warnings"] else made_note(path, stored)

    def readers(
        self,
        recipe: Recipe,
        files: Mapping[str, str],
        frame: int,
        needed: Iterable[str],
        manifests: Mapping[str, Mapping[str, str]] | None = None,
    ) -> dict[str, Reader]:
        """A reader for each needed source at a frame; `files` holds the path or pattern of each, `manifests` the names
        of ids of those that have some, by file."""
        result: dict[str, Reader] = {}
        for name in needed:
            try:
                texts = (manifests or {}).get(name)
                result[name] = self._reader(name, files[name], recipe.sources[name], frame, texts)
            except NexalError as error:
                raise error.at(f"source '{name}'") from None
        return result

    def _reader(
        self, name: str, files: str, spec: SourceSpec, frame: int, manifests: Mapping[str, str] | None
    ) -> Reader:
        if is_video(files):
            return self._video_frame(name, Path(files), spec, frame)
        if not is_numbered(files):
            return self.open(Path(files), spec, None, manifests)
        choice = choose(numbers_of(files), spec, frame)
        self._tell_of(name, choice.told)
        reader = self.open(Path(numbered_file(files, choice.number)), spec, choice.number, manifests)
        return BlackSource(reader) if choice.black else reader

    def _tell_of(self, name: str, text: str) -> None:
        if text:
            self._tell(name, text, f"source '{name}': {text}")

    def _tell(self, about: str, what: str, text: str) -> None:
        """Once."""
        if (about, what) not in self._told:
            self._told.add((about, what))
            self.warn(text)

    def video(self, path: Path) -> VideoInfo:
        """How many frames a video has, and at which rate. Raises SourceError or FormatError, placed at the file."""
        if not path.is_file():
            raise SourceError("there is no such file", where=str(path), remedy="check the path")
        path = path.resolve()
        try:
            stamp = stamp_of(path)
            known = self._videos.get(path)
            if known is None or known[0] != stamp:
                known = self._videos[path] = (stamp, video_info(path))
        except OSError as error:
            raise unreadable(path, error) from None
        return known[1]

    def _video_frame(self, name: str, path: Path, spec: SourceSpec, frame: int) -> Reader:
        info = self.video(path)
        choice = choose(info.numbers, spec, frame)
        # Between frames of its own the one before is seen, as in any player.
        if not info.numbers[0] <= frame - spec.offset <= info.numbers[-1] or spec.missing != "hold":
            self._tell_of(name, choice.told)
        _, stored, digest = self._unpacked(path, choice.number)
        reader = reading(stored, spec, digest, choice.number)
        return BlackSource(reader) if choice.black else reader


MOST_TRIES = 3
"""How often a file is read that is written to meanwhile."""


def unreadable(path: Path, error: OSError) -> SourceError:
    """A fault of the system while a file was read."""
    what = error.strerror or type(error).__name__
    return SourceError(f"cannot be read ({what})", where=str(path), remedy="check the disk, and who may read the file")


def source_files(recipe: Recipe, folder: Path, given: Mapping[str, str]) -> dict[str, str]:
    """Path or pattern of every source: as given, else the recipe's own, relative to its folder."""
    for name in given:
        if name not in recipe.sources:
            known = ", ".join(recipe.sources) or "none"
            raise RecipeError(
                "the recipe has no such source", where=f"source '{name}'", remedy=f"its sources are: {known}"
            )
    files = {}
    for name, spec in recipe.sources.items():
        if name in given:
            files[name] = given[name]
        else:
            files[name] = str(folder / spec.files) if spec.files else ""
    return files


def numbers_of(pattern: str) -> tuple[int, ...]:
    """The numbers of the files on disk that a pattern stands for, in order. Raises SourceError where there are none."""
    path = Path(pattern)
    found = numbers_in(path.name, (entry.name for entry in path.parent.iterdir())) if path.parent.is_dir() else ()
    if not found:
        raise SourceError("there is no frame of it", remedy=f"check '{pattern}'")
    return found


def frames_of(
    files: Mapping[str, str], specs: Mapping[str, SourceSpec], video: Callable[[Path], VideoInfo] | None = None
) -> list[int]:
    """The frames of a recipe: those that lie in the range of all of its numbered sources; [1] where none is numbered.

    Numbers that are not there between a source's first and last count: the source says what stands for them.
    """
    begin, end = None, None
    for name, pattern in files.items():
        moving = is_video(pattern)
        if not is_numbered(pattern) and not moving:
            continue
        try:
            numbers = (video or video_info)(Path(pattern)).numbers if moving else numbers_of(pattern)
            first, last = range_of(numbers, specs[name])
        except NexalError as error:
            raise error.at(f"source '{name}'") from None
        begin = first if begin is None else max(begin, first)
        end = last if end is None else min(end, last)
    if begin is None or end is None:
        return [1]
    if begin > end:
        raise SourceError("the numbered sources have no frame in common", where="sources", remedy="check their numbers")
    return list(range(begin, end + 1))


def items_behind(recipe: Recipe, addresses: Iterable[str]) -> list[str]:
    """The sources and steps that the addresses depend on, in the recipe's order."""
    wanted, seen = [split_address(address)[0] for address in addresses], set()
    while wanted:
        item = wanted.pop()
        if item in seen:
            continue
        seen.add(item)
        step = recipe.step(item)
        if step:
            wanted += [split_address(address)[0] for address in addresses_of(step)]
    return [name for name in recipe.items() if name in seen]


def sources_behind(recipe: Recipe, addresses: Iterable[str]) -> list[str]:
    """The sources that the addresses depend on, in the recipe's order."""
    return [name for name in items_behind(recipe, addresses) if name in recipe.sources]


def check_outputs(plan: Plan, outputs: Mapping[str, Output]) -> None:
    """Raises the first fault that stands in the way of the outputs, telling of all others too."""
    found: list[NexalError] = []
    told = plan.inspect()
    for item in items_behind(plan.recipe, [address for output in outputs.values() for address in output.addresses]):
        fault = told.get(item)
        if isinstance(fault, NexalError):
            found.append(fault)
    for name, output in outputs.items():
        try:
            target_of(output)
            output_feed(plan, output)
        except NexalError as error:
            found.append(error if error.where.startswith(("step '", "source '")) else error.at(f"output '{name}'"))
    if found:
        raise found[0].with_others(found[1:])


def made_of(feed: Feed, output: Output, scale: Fraction = Fraction(1), region: Window | None = None) -> str:
    """A digest of all that makes a file of an output: what it shows, how it is written, and the code that does it.

    Files with the same digest hold the same pixels.
    """
    written = output.model_dump(mode="json", exclude={"file", "source"})
    part = None if region is None else region.as_list()
    parts = [feed.node.digest, list(feed.channels.items()), written, str(scale), part, version_of(__name__)]
    return hashlib.blake2b(json.dumps(parts).encode(), digest_size=16).hexdigest()


def output_feed(plan: Plan, output: Output) -> Feed:
    return plan.feed(output.source) if isinstance(output.source, str) else plan.picture(output.source)


def output_path(plan: Plan, name: str, output: Output, folder: Path, shot: str) -> Path:
    """Where an output is written at the plan's frame: its file name with frame number and words filled in."""
    return folder / numbered_file(output_file(plan, name, output, shot), plan.frame)


def output_file(plan: Plan, name: str, output: Output, shot: str) -> str:
    """The file name of an output with its words filled in; a frame's number has its place in it still."""
    words = {"shot": shot, "name": name}
    if "{layout}" in output.file:
        layout = output_feed(plan, output).description.metadata.get("layout")
        words["layout"] = str(untagged(layout)) if layout else ""
    return worded_file(output.file, words)


def render_output(
    engine: Engine,
    plan: Plan,
    output: Output,
    path: Path,
    fingerprints: Mapping[str, str],
    *,
    scale: Fraction = Fraction(1),
    region: Window | None = None,
    cancellation: Cancellation | None = None,
) -> list[Path]:
    """Evaluate one output at the plan's frame and write it; returns its file, or those of its channels.

    `region` in full-resolution pixels. Raises NexalError.
    """
    target = target_of(output)
    feed = output_feed(plan, output)
    description = feed.description
    window = written_window(description.window, description.display, target)
    if region is not None:
        window = window.intersect(region)
        if window.empty:
            raise FormatError("the region lies outside of the picture", where="region", remedy="choose one inside")
    picture = engine.evaluate(feed, plan, scale=scale, region=window.scaled(scale), cancellation=cancellation)
    own = _own_samples(feed, picture, target) if output.depth is None and scale == 1 else {}
    notes = provenance(plan.recipe, fingerprints, made_of(feed, output, scale, region))
    if output.split:
        return _split(feed, picture, output, target, path, notes)
    write(picture, target, path, notes, own)
    return [path]


def _split(
    feed: Feed, picture: Picture, output: Output, target: Target, path: Path, notes: Mapping[str, str]
) -> list[Path]:
    """Each channel in a file of its own. Where no depth is asked for, what comes from a source untouched is written
    as its file holds it, and what was made in the largest depth of the format."""
    own: dict[str, Any] = {}
    spaces = set()
    if output.depth is None and picture.scale == 1 and not _converts_alpha(picture, target):
        for name in picture.description.channels:
            behind = origin(feed, name)
            if behind and isinstance(behind[0], StoredSource) and behind[0].spec.non_finite == "keep":
                own[name] = behind[0].as_stored(behind[1], picture.region)
                spaces.add(behind[0].space)
    whole = {"uint8": "8", "uint16": "16"}

    def target_for(name: str) -> Target:
        if output.depth is not None:
            return target
        if name not in own:
            return replace(target, depth=_DEEPEST.get(target.format, target.depth))
        kind = str(own[name].dtype)
        fits = kind in whole and target.format in ("png", "tiff")
        return replace(target, format=target.format if fits else "exr", depth=whole[kind] if fits else "float")

    for name in [name for name in own if target_for(name).format == "exr" and str(own[name].dtype) in whole]:
        # An EXR holds no codes: whole numbers go into it as the values that they stand for.
        del own[name]
    if len(own) == len(picture.planes) and len(spaces) == 1:
        encoding = spaces.pop()
    else:
        encoding = "data" if picture.description.all_data else "srgb" if target.integer else "linear"
    return split(picture, target_for, path, notes, own, encoding)


_DEEPEST = {"exr": "float", "png": "16", "tiff": "float"}


def _converts_alpha(picture: Picture, target: Target) -> bool:
    """Whether colour is multiplied or divided by alpha on its way into a file."""
    alpha = picture.description.alpha
    return Alpha.NONE not in (alpha, target.alpha) and alpha is not target.alpha


def _own_samples(feed: Feed, picture: Picture, target: Target) -> dict[str, Any]:
    """The channels of an EXR that come from a source untouched, in the source's own sample type."""
    if target.format != "exr" or target.colour not in ("auto", "linear", "data"):
        return {}
    description = feed.description
    converted = _converts_alpha(picture, target)
    found = {}
    for name in description.channels:
        if converted and name in description.colour and description.alpha_of(name):
            continue
        behind = origin(feed, name)
        if behind and isinstance(behind[0], StoredSource):
            samples = behind[0].raw(behind[1], picture.region)
            if samples is not None:
                found[name] = samples
    return found
