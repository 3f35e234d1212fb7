"""One archive of all that people have made: the database, and the files that they imported.

A tar file with `database.sql.gz`, the originals under the names that the database has for them, and at its end
`manifest.json`: sizes and SHA-256 digests of all of them. What can be computed again is not in it.
"""

import hashlib
import io
import os
import shutil
import tarfile
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path, PurePosixPath
from typing import IO

from django.conf import settings
from django.contrib.sessions.models import Session
from django.core.management import call_command
from django.db import DatabaseError
from django.utils import timezone
from pydantic import BaseModel, Field, ValidationError

import nexal
from accounts.models import User
from keeping import database
from keeping.database import KeepingError
from projects.models import Project, Shot
from sources.models import Source, SourceFrame

VERSION = 1
DATABASE, MANIFEST, ORIGINALS = "database.sql.gz", "manifest.json", "originals"
ROOM = 64 << 20
"""What is to stay free on a disk that something is written to."""
BLOCK = 1 << 20
NOT_IN_IT = "decoded planes, results, pictures and delivered files: they are made again when asked for"


class Member(BaseModel):
    """A file of the archive."""

    size: int = Field(ge=0)
    sha256: str


class Manifest(BaseModel):
    """What an archive holds."""

    nexal_backup: int
    program: str
    made: datetime
    people: int
    projects: int
    shots: int
    members: dict[str, Member]
    missing: list[str] = []
    """Originals that the database has names for and that were not there."""


Tell = Callable[[str], None]


@dataclass
class _Digesting:
    """A file that is read once, and its digest."""

    file: IO[bytes]

    def __post_init__(self) -> None:
        self.digest = hashlib.sha256()

    def read(self, size: int = -1) -> bytes:
        data = self.file.read(size)
        self.digest.update(data)
        return data


def back_up(target: Path, tell: Tell) -> Manifest:
    """Write an archive, and read it back to see that it is whole. Raises KeepingError; a file that stands there stays
    until the new one is known to be whole. People go on working meanwhile: it holds what was saved when it began.
    """
    if not target.parent.is_dir():
        raise KeepingError("there is no such folder", where=str(target.parent), remedy="make it first")
    if target.is_dir():
        raise KeepingError("is a folder", where=str(target), remedy="name a file in it")
    with _at_hand() as (held, before), _part(target) as part:
        tell("writing the database")
        dumped = held / DATABASE
        database.dump(dumped)
        # Whatever came or went while the database was written may be in it.
        names = sorted({*before, *_hold(held)})
        files = {name: held / name for name in names if (held / name).is_file()}
        total = sum(path.stat().st_size for path in (dumped, *files.values()))
        _need_room(target.parent, total)
        tell(f"writing {len(files)} originals, {_size(total)}")
        manifest = Manifest(
            nexal_backup=VERSION,
            program=nexal.__version__,
            made=timezone.now(),
            people=User.objects.count(),
            projects=Project.objects.count(),
            shots=Shot.objects.count(),
            members={},
            missing=sorted(set(names) - set(files)),
        )
        with part.open("wb") as out:
            with tarfile.open(fileobj=out, mode="w", format=tarfile.PAX_FORMAT) as archive:
                for name, path in ((DATABASE, dumped), *sorted(files.items())):
                    manifest.members[name] = _add(archive, name, path)
                text = manifest.model_dump_json(indent=1).encode()
                entry = tarfile.TarInfo(MANIFEST)
                entry.size = len(text)
                archive.addfile(entry, io.BytesIO(text))
            out.flush()
            os.fsync(out.fileno())
        tell("reading it back")
        check(part)
        part.replace(target)
    return manifest


def check(path: Path) -> Manifest:
    """What an archive holds, once each byte of it is known to be what was written. Raises KeepingError."""
    found: dict[str, Member] = {}
    text = b""
    with _opened(path) as archive:
        for entry, file in _members(archive, path):
            if entry.name == MANIFEST:
                text = file.read()
                continue
            digest = hashlib.sha256()
            while data := file.read(BLOCK):
                digest.update(data)
            found[entry.name] = Member(size=entry.size, sha256=digest.hexdigest())
    if not text:
        raise _unsound(path, "it breaks off before its end")
    try:
        manifest = Manifest.model_validate_json(text)
    except ValidationError:
        raise _unsound(path, "what it says of itself is not understood") from None
    if manifest.nexal_backup != VERSION:
        raise KeepingError(
            "was made by a newer program", where=str(path), remedy=f"use Nexal {manifest.program} or newer"
        )
    wrong = sorted(name for name in {*found, *manifest.members} if found.get(name) != manifest.members.get(name))
    if wrong:
        more = f" and {len(wrong) - 1} more" if len(wrong) > 1 else ""
        raise _unsound(path, f"{wrong[0]}{more} is not what was written")
    if DATABASE not in found:
        raise _unsound(path, "it holds no database")
    return manifest


def restore(path: Path, tell: Tell, *, replace: bool = False) -> tuple[Manifest, Path | None]:
    """Bring back what an archive holds, in the place of what is here; returns what it holds, and the folder where what
    was here lies now, if anything was. Raises KeepingError: then everything is as it was before.

    What is here is replaced only where that is asked for. An archive of an older program is brought up to date.
    """
    tell("reading the archive")
    manifest = check(path)
    here = _projects_here()
    if here and not replace:
        raise KeepingError(
            f"there are {here} projects here",
            remedy="add --replace to put the archive in their place; they are laid aside, not deleted",
        )
    media = Path(settings.MEDIA_ROOT)
    _need_room(media, sum(member.size for member in manifest.members.values()))
    with tempfile.TemporaryDirectory(prefix="restore-", dir=media.parent) as made:
        fresh = Path(made)
        tell(f"unpacking {len(manifest.members) - 1} originals")
        _unpack(path, manifest, fresh)
        aside = _folder(media.parent, f"before-restore-{timezone.now():%Y%m%d-%H%M%S}")
        moved: list[tuple[Path, Path]] = []
        emptied = False

        def move(what: Path, to: Path) -> None:
            what.rename(to)
            moved.append((what, to))

        try:
            database.dump(aside / DATABASE)
        except BaseException:
            shutil.rmtree(aside)
            raise
        try:
            for each in sorted(media.iterdir()):
                move(each, aside / each.name)
            if (fresh / ORIGINALS).is_dir():
                move(fresh / ORIGINALS, media / ORIGINALS)
            tell("putting the database in place")
            database.empty()
            emptied = True
            database.load(fresh / DATABASE)
            call_command("migrate", interactive=False, verbosity=0)
            # Who was signed in then is not now.
            Session.objects.all().delete()
        except BaseException as error:
            # Whatever it was, be it a key that stops it: each move is taken back, the last one first.
            tell("it failed; what was here is put back")
            for what, to in reversed(moved):
                to.rename(what)
            if emptied:
                database.empty()
                database.load(aside / DATABASE)
            shutil.rmtree(aside)
            if isinstance(error, KeepingError) or not isinstance(error, Exception):
                raise
            raise KeepingError(f"it could not be put in place: {error}", remedy="see the lines above") from error
    if not here and [each.name for each in aside.iterdir()] == [DATABASE]:
        shutil.rmtree(aside)
        return manifest, None
    return manifest, aside


@contextmanager
def _at_hand() -> Iterator[tuple[Path, list[str]]]:
    """A folder with all originals in it by further names, which what is deleted meanwhile keeps; and their names."""
    media = Path(settings.MEDIA_ROOT)
    media.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(prefix="backup-", dir=media.parent) as made:
        held = Path(made)
        yield held, _hold(held)


def _hold(held: Path) -> list[str]:
    """Have every original that the database names in a folder, too; returns all names, of what is not there as well."""
    media = Path(settings.MEDIA_ROOT)
    names: list[str] = []
    for rows in (Source.objects, SourceFrame.objects):
        names += rows.exclude(original="").values_list("original", flat=True).distinct()
    for name in dict.fromkeys(names):
        to = held / name
        if to.exists():
            continue
        to.parent.mkdir(parents=True, exist_ok=True)
        with suppress(FileNotFoundError):
            try:
                os.link(media / name, to)
            except FileNotFoundError:
                raise
            except OSError:
                # Some file systems have no second names.
                shutil.copyfile(media / name, to)
    return names


@contextmanager
def _part(target: Path) -> Iterator[Path]:
    """A name beside a file's, to be written under; nothing of it stays behind."""
    part: Path | None = None
    try:
        handle, name = tempfile.mkstemp(prefix=f".{target.name[:100]}.", suffix=".part", dir=target.parent)
        os.close(handle)
        part = Path(name)
        yield part
    except OSError as error:
        why = f"cannot be written ({error.strerror or error})"
        raise KeepingError(why, where=str(target), remedy="make room, or choose another place") from error
    finally:
        if part:
            part.unlink(missing_ok=True)


def _add(archive: tarfile.TarFile, name: str, path: Path) -> Member:
    with path.open("rb") as file:
        entry = archive.gettarinfo(fileobj=file, arcname=name)
        # Whose it was here means nothing elsewhere.
        entry.uid = entry.gid = 0
        entry.uname = entry.gname = ""
        entry.mode = 0o600
        # A second name of the same file is a file too.
        entry.type, entry.linkname = tarfile.REGTYPE, ""
        entry.size = os.fstat(file.fileno()).st_size
        digesting = _Digesting(file)
        archive.addfile(entry, digesting)
    return Member(size=entry.size, sha256=digesting.digest.hexdigest())


@contextmanager
def _opened(path: Path) -> Iterator[tarfile.TarFile]:
    """An archive, read from its start to its end. Raises KeepingError for what is none."""
    try:
        with tarfile.open(path, "r|") as archive:
            yield archive
    except FileNotFoundError:
        raise KeepingError("there is no such file", where=str(path), remedy="check the path") from None
    except (tarfile.TarError, EOFError, ValueError) as error:
        raise _unsound(path, str(error) or "it breaks off") from None
    except OSError as error:
        raise KeepingError(f"cannot be read ({error.strerror})", where=str(path), remedy="check the disk") from None


def _members(archive: tarfile.TarFile, path: Path) -> Iterator[tuple[tarfile.TarInfo, IO[bytes]]]:
    """The files of an archive in turn. Raises KeepingError where one would lie elsewhere than it should."""
    for entry in archive:
        place = PurePosixPath(entry.name)
        own = entry.name in (DATABASE, MANIFEST) or place.parts[:1] == (ORIGINALS,)
        file = archive.extractfile(entry) if entry.isreg() and own and ".." not in place.parts else None
        if file is None:
            raise _unsound(path, f"'{entry.name[:100]}' does not belong there")
        yield entry, file


def _unpack(path: Path, manifest: Manifest, to: Path) -> None:
    with _opened(path) as archive:
        for entry, file in _members(archive, path):
            if entry.name in manifest.members:
                place = to / entry.name
                place.parent.mkdir(parents=True, exist_ok=True)
                with place.open("wb") as out:
                    shutil.copyfileobj(file, out, BLOCK)


def _unsound(path: Path, why: str) -> KeepingError:
    return KeepingError(f"is no whole archive of Nexal: {why}", where=str(path), remedy="take another copy of it")


def _need_room(folder: Path, wanted: int) -> None:
    free = shutil.disk_usage(folder).free
    if free < wanted + ROOM:
        raise KeepingError(
            f"only {_size(free)} are free, {_size(wanted)} are wanted", where=str(folder), remedy="make room"
        )


def _projects_here() -> int:
    try:
        return Project.objects.count()
    except DatabaseError:
        # No tables yet: nothing is here.
        return 0


def _folder(parent: Path, name: str) -> Path:
    """A new folder of a name, or of that name with a number."""
    for number in range(1, 1000):
        made = parent / (name if number == 1 else f"{name}-{number}")
        with suppress(FileExistsError):
            made.mkdir()
            return made
    raise KeepingError("there are too many of them", where=str(parent / name), remedy="take some away")


def _size(many: int) -> str:
    return f"{many / 1e9:.1f} GB" if many >= 1e9 else f"{many / 1e6:.1f} MB"


def told(manifest: Manifest) -> list[str]:
    """What an archive holds, in words."""
    size = _size(sum(member.size for member in manifest.members.values()))
    lines = [
        f"{manifest.projects} projects, {manifest.shots} shots, {manifest.people} people, "
        f"{len(manifest.members) - 1} originals, {size}, made {manifest.made:%Y-%m-%d %H:%M} UTC",
        f"not in it: {NOT_IN_IT}",
    ]
    if manifest.missing:
        lines.append(f"missing already when it was made: {', '.join(manifest.missing[:5])}")
    return lines
