"""Shots duplicated, moved, deleted and recovered, and gone for good after a while."""

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from datetime import timedelta
from typing import Any

from django.db import IntegrityError, transaction
from django.db.models import Q
from django.utils import timezone

from config.errors import Refused
from config.names import plain_name
from deliveries.models import UNFINISHED, Deliverable, Render
from deliveries.services import remove as remove_deliverable
from nexal.recipe import parse_recipe
from projects.models import Project, Shot
from projects.news import REVISION, tell
from recipes.models import Revision
from recipes.services import first_revision, save
from recipes.shots import name_taken
from sources.models import Source, SourceFrame
from sources.services import duplicate as duplicate_sources
from sources.services import originals_of, release
from tags.services import set_tags

KEPT_DAYS = 30
"""How long what was deleted can be recovered."""
MOST_NAMES = 99


@dataclass(frozen=True)
class Loss:
    """What goes with a shot."""

    revisions: int
    sources: int
    bytes: int
    deliverables: int


def rename(shot: Shot, name: str) -> None:
    """Raises Refused where another shot of the project has the name."""
    plain = plain_name(name)
    try:
        with transaction.atomic():
            Shot.objects.filter(pk=shot.pk).update(name=plain)
    except IntegrityError:
        raise name_taken(plain) from None


def move(shot: Shot, project: Project) -> None:
    """Into another project. Raises Refused where a shot there has its name."""
    try:
        with transaction.atomic():
            Shot.objects.filter(pk=shot.pk).update(project=project)
    except IntegrityError:
        raise Refused(
            409,
            "name_taken",
            f"'{project.name}' has a shot '{shot.name}' already",
            where="project",
            remedy="rename one of them first",
        ) from None


def duplicate(shot: Shot, name: str, author: int) -> Shot:
    """A shot with the recipe, marks and sources of another, and a history of its own. Raises Refused."""
    plain = plain_name(name)
    assert shot.head is not None
    try:
        with transaction.atomic():
            made = Shot.objects.create(
                project_id=shot.project_id,
                name=plain,
                first_frame=shot.first_frame,
                last_frame=shot.last_frame,
                own_range=shot.own_range,
                marks=shot.marks,
            )
            begun = first_revision(made, author)
            duplicate_sources(shot, made)
            set_tags(made, [tag.word for tag in shot.tags.all()])
            save(made, author, begun.number, parse_recipe(shot.head.recipe))
    except IntegrityError:
        raise name_taken(plain) from None
    made.refresh_from_db()
    return made


def loss(shot: Shot) -> Loss:
    """What would go with a shot: files that other shots have too are not counted."""
    return _loss([shot.pk])


def project_loss(project: Project) -> dict[str, int]:
    """What would go with a project, and how many shots; what was deleted before is gone already."""
    shots = list(project.shots.filter(deleted=None).values_list("pk", flat=True))
    return {**asdict(_loss(shots)), "shots": len(shots)}


def _loss(shots: Sequence[int]) -> Loss:
    going: dict[str, int] = {}
    for rows in (Source.objects.filter(shot__in=shots), SourceFrame.objects.filter(source__shot__in=shots)):
        going |= dict(rows.exclude(original="").values_list("original", "size"))
    stay: set[str] = set()
    for others in (Source.objects.exclude(shot__in=shots), SourceFrame.objects.exclude(source__shot__in=shots)):
        stay |= set(others.filter(original__in=list(going)).values_list("original", flat=True))
    return Loss(
        revisions=Revision.objects.filter(shot__in=shots).count(),
        sources=Source.objects.filter(shot__in=shots).count(),
        bytes=sum(size for name, size in going.items() if name not in stay),
        deliverables=Deliverable.objects.filter(shot__in=shots).count(),
    )


def _not_delivered(name: str, **whose: Any) -> None:
    """Raises Refused while something of it is being delivered."""
    if Render.objects.filter(state__in=UNFINISHED, **whose).exists():
        raise Refused(
            409,
            "delivering",
            f"'{name}' is being delivered",
            where="shot",
            remedy="wait for its renders, or cancel them in Deliver",
        )


def delete(shot: Shot) -> None:
    """Take a shot out of sight; for `KEPT_DAYS` it can be recovered. Raises Refused while it is being delivered."""
    with transaction.atomic():
        Shot.objects.select_for_update().get(pk=shot.pk)
        _not_delivered(shot.name, deliverable__shot=shot)
        # Its name is free for another from now on.
        hidden = f"{shot.name[:90]} deleted {shot.pk}"
        Shot.objects.filter(pk=shot.pk, deleted=None).update(
            deleted=timezone.now(), deleted_name=shot.name, name=hidden
        )
        tell(shot.pk, REVISION)


def recover(shot: Shot) -> Shot:
    """Bring a deleted shot back, under another name where its own was taken meanwhile."""
    wanted = shot.deleted_name
    for number in range(1, MOST_NAMES):
        name = wanted if number == 1 else f"{wanted[:110]} ({number})"
        try:
            with transaction.atomic():
                Shot.objects.filter(pk=shot.pk).update(deleted=None, deleted_name="", name=name)
        except IntegrityError:
            continue
        shot.refresh_from_db()
        return shot
    raise name_taken(wanted)


def delete_project(project: Project) -> None:
    """Take a project out of sight, with its shots. Raises Refused while one of them is being delivered."""
    with transaction.atomic():
        Project.objects.select_for_update().get(pk=project.pk)
        _not_delivered(project.name, deliverable__shot__project=project, deliverable__shot__deleted=None)
        Project.objects.filter(pk=project.pk, deleted=None).update(deleted=timezone.now())
        for shot in project.shots.filter(deleted=None):
            tell(shot.pk, REVISION)


def recover_project(project: Project) -> None:
    """Bring a deleted project back, and whatever of its shots was not deleted by itself."""
    Project.objects.filter(pk=project.pk).update(deleted=None)


def clear_deleted() -> None:
    """Remove for good what was deleted long ago (a chore)."""
    old = timezone.now() - timedelta(days=KEPT_DAYS)
    for shot in Shot.objects.filter(Q(deleted__lt=old) | Q(project__deleted__lt=old)):
        remove(shot)
    Project.objects.filter(deleted__lt=old, shots=None).delete()


def remove(shot: Shot) -> None:
    """Remove a shot's rows, and the files that nobody else's shot uses."""
    for deliverable in shot.deliverables.all():
        remove_deliverable(deliverable)
    originals = [name for source in shot.sources.all() for name in originals_of(source)]
    with transaction.atomic():
        Shot.objects.filter(pk=shot.pk).update(head=None)
        Revision.objects.filter(shot=shot).update(parent=None)
        shot.head = None
        shot.delete()
    release(originals)
