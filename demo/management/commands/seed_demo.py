"""`manage.py seed_demo`: a demo user and the first shots of the Night Conservatory, made once; with `--stills` all that
stand still, with `--rest` everything, which the wall tells of while it is drawn."""

from argparse import ArgumentParser
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from threading import Event, Thread
from typing import Any

from django.conf import settings
from django.core.files import File
from django.core.management.base import BaseCommand
from django.db import connection, transaction
from django.utils import timezone

from accounts.models import User
from chains.api import NewChain, keep
from deliveries.services import create, start
from demo.night.generate import SEQUENCES, generate, generate_sequence
from demo.recipes import (
    CHAINS,
    DELIVERABLES,
    MARKS,
    MOVING,
    NAMED,
    NOTES,
    PASSWORD,
    PROJECT,
    SHOTS,
    STATES,
    TAGS,
    USERNAME,
)
from nexal.errors import NexalError
from nexal.recipe import numbered_file, numbers_in, parse_recipe
from notes.models import Note
from projects.models import Membership, Project, Role, Shot, ShotState
from recipes.models import Revision
from recipes.services import first_revision, save
from sources import sequences
from sources.models import Source, SourceState
from sources.services import import_file
from stage.services import plan, wait_for_compiler
from stage.slow import compute
from tags.services import set_tags
from wall import coming


class Command(BaseCommand):
    """Make what is missing of the demo user, project, pictures and shots."""

    help = __doc__

    def add_arguments(self, parser: ArgumentParser) -> None:
        parser.add_argument("--stills", action="store_true", help="all shots that stand still")
        parser.add_argument("--rest", action="store_true", help="all shots, and what is slow in them is computed ahead")

    def handle(self, *args: Any, **options: Any) -> None:
        settings.NEXAL_JOBS = "inline"
        user, _ = _person(USERNAME, "Demo compositor")
        if not User.objects.filter(is_staff=True, is_active=True).exists():
            User.objects.filter(pk=user.pk).update(is_staff=True)
        project, made_now = Project.objects.get_or_create(name=PROJECT)
        Membership.objects.get_or_create(project=project, user=user, defaults={"role": Role.OWNER})
        for username, (name, role) in OTHERS.items():
            other, made = _person(username, name)
            # Who was put out again stays out.
            if made:
                Membership.objects.create(project=project, user=other, role=role)
        # Once: a chain that somebody renames or drops is not made anew.
        if made_now:
            for chain in CHAINS:
                keep(project, user.pk, NewChain(**chain))
        folder = Path(settings.VAR) / "demo"
        # What somebody has deleted is not made anew.
        there = {*project.shots.values_list("name", flat=True), *project.shots.values_list("deleted_name", flat=True)}
        stills = SHOTS if options["rest"] or options["stills"] else list(SHOTS)[:FIRST]
        missing = [name for name in stills if name not in there]
        if missing:
            self.stdout.write("drawing the Night Conservatory")
        if not options["rest"]:
            generate(folder, [files for name in missing for files in pictures_of(name)])
            self._seeded(missing, project, user.pk, folder)
            return
        moving = [name for name in MOVING if name not in there]
        with told(project.pk, folder, [*missing, *moving]):
            wait_for_compiler()
            # One shot after the other: the first is looked at while the next is drawn.
            self._seeded(missing, project, user.pk, folder)
            compute_ahead(project)
            for source in sequences_of(project, MOVING):
                generate_sequence(folder, source.files)
                _seed_frames(source, folder)
            self._seeded(moving, project, user.pk, folder)

    def _seeded(self, names: Iterable[str], project: Project, author: int, folder: Path) -> None:
        for name in names:
            generate(folder, pictures_of(name))
            for files in sequences_in(name):
                generate_sequence(folder, files)
            seed_shot(project, name, author, folder)
            self.stdout.write(f"shot {name}")


FIRST = 3
"""Shots that stand before the application is opened."""
TELL_SECONDS = 1.0


@contextmanager
def told(project: int, folder: Path, names: Sequence[str]) -> Iterator[None]:
    """Have the wall tell of shots that are to come, and how far their pictures are, until they are there."""
    done = Event()

    def share(name: str) -> float:
        needed = [
            *pictures_of(name),
            *(numbered_file(f, n + 1) for f in sequences_in(name) for n in range(SEQUENCES[f])),
        ]
        return sum((folder / file).is_file() for file in needed) / len(needed)

    def tell() -> None:
        try:
            while True:
                there = {*Shot.objects.filter(project=project, name__in=names).values_list("name", flat=True)}
                coming.tell(project, [(name, share(name)) for name in names if name not in there])
                if done.wait(TELL_SECONDS):
                    return
        finally:
            connection.close()

    if not names:
        yield
        return
    teller = Thread(target=tell, name="nexal-coming")
    teller.start()
    try:
        yield
    finally:
        done.set()
        teller.join()
        coming.tell(project, [])


OTHERS = {"lamplighter": ("Orla of the Lamps", Role.ARTIST), "gardener": ("Bram of the Ferns", Role.VIEWER)}
"""Further members of the demo project; they sign in with its password."""


def _person(username: str, name: str) -> tuple[User, bool]:
    """A demo person, and whether they were made just now."""
    user, created = User.objects.get_or_create(username=username, defaults={"first_name": name})
    if created:
        user.set_password(PASSWORD)
        user.save()
    return user, created


def compute_ahead(project: Project) -> None:
    """The slow steps of the shots that stand still, so that who looks at them later need not wait."""
    for shot in Shot.objects.filter(project=project, name__in=SHOTS).select_related("head"):
        if shot.head is None:
            continue
        planned = plan(shot, parse_recipe(shot.head.recipe), shot.first_frame)
        for step in planned.recipe.steps:
            try:
                operation = planned.node(step.name).operation
                if operation is not None and operation.slow:
                    compute(planned, step.name)
            except NexalError:
                # Somebody has changed the shot meanwhile; the bench tells what is wrong with it.
                continue


def sequences_of(project: Project, shots: Iterable[str]) -> list[Source]:
    """The sequences of demo shots that a stopped seeding left without all of their frames; others are people's own."""
    found = Source.objects.filter(shot__project=project, shot__name__in=shots, numbered=True, files__in=SEQUENCES)
    return [source for source in found if source.frames.filter(version=1).count() < SEQUENCES[source.files]]


def pictures_of(name: str) -> list[str]:
    """The single pictures that a demo shot holds."""
    return [spec["files"] for spec in (SHOTS | MOVING)[name]["sources"].values() if spec["files"] not in SEQUENCES]


def sequences_in(name: str) -> list[str]:
    """The patterns of the numbered files that a demo shot holds."""
    return [spec["files"] for spec in (SHOTS | MOVING)[name]["sources"].values() if spec["files"] in SEQUENCES]


def seed_shot(project: Project, name: str, author: int, folder: Path) -> Shot:
    """One demo shot with its pictures imported and its recipe as second revision, whole or not at all; frames of
    sequences follow one by one."""
    with transaction.atomic():
        shot, created = _started(project, name, author, folder)
    for source in created:
        _seed_frames(source, folder)
    _give_away(shot, author)
    return shot


def _started(project: Project, name: str, author: int, folder: Path) -> tuple[Shot, list[Source]]:
    state = ShotState(STATES.get(name, ShotState.TODO))
    shot = Shot.objects.create(project=project, name=name, marks=MARKS.get(name, []), state=state)
    revision = first_revision(shot, author)
    recipe = parse_recipe((SHOTS | MOVING)[name])
    stills = [spec.files for spec in recipe.sources.values() if not spec.numbered]
    for files in stills:
        with (folder / files).open("rb") as file:
            source = import_file(shot, files, File(file, name=files))
        source = Source.objects.get(pk=source.pk)
        if source.state != SourceState.READY:
            raise RuntimeError(f"{files}: {source.problem}")
    patterns = [spec.files for spec in recipe.sources.values() if spec.numbered]
    created = [sequences.create(shot, files) for files in patterns]
    # With its recipe from the first frame on: it is seen while the others come.
    save(shot, author, revision.number, recipe)
    return shot, created


def _give_away(shot: Shot, author: int) -> None:
    """What is rendered of a demo shot, and what people have said about it."""
    shot.refresh_from_db()
    for name, spec in DELIVERABLES.get(shot.name, []):
        start(create(shot, name, spec), author)
    set_tags(shot, TAGS.get(shot.name, []))
    if shot.head and shot.name in NAMED:
        Revision.objects.filter(pk=shot.head_id).update(name=NAMED[shot.name])
    people = {user.username: user.pk for user in User.objects.filter(username__in=[USERNAME, *OTHERS])}
    for said in NOTES.get(shot.name, []):
        done = {"done": timezone.now(), "done_by_id": author} if said.get("done") else {}
        place = {key: said.get(key) for key in ("x", "y", "frame")}
        note = Note.objects.create(
            shot=shot, author_id=people.get(said["author"]), text=said["text"], item=said["item"], **place, **done
        )
        for who, text in said.get("answers", []):
            Note.objects.create(shot=shot, author_id=people.get(who), text=text, about=note)


def _seed_frames(source: Source, folder: Path) -> None:
    """The frames that a source does not have yet."""
    numbers = numbers_in(source.files, [path.name for path in folder.iterdir()])
    shot = Shot.objects.filter(pk=source.shot_id)
    # The range is that of the shot's first sequence.
    if next(iter(sequences_in(shot.get().name)), source.files) == source.files:
        shot.update(first_frame=numbers[0], last_frame=numbers[-1])
    there = set(source.frames.values_list("number", flat=True))
    for number in numbers:
        if number not in there:
            with (folder / numbered_file(source.files, number)).open("rb") as file:
                sequences.add_frame(source, number, File(file, name=source.files))
