"""Saving, undoing and redoing: a shot's history."""

from typing import Any

from django.db import transaction
from django.db.models import Max

from config.errors import Refused
from nexal.recipe import Recipe
from projects.models import Shot
from projects.news import REVISION, tell
from projects.references import follow_renames
from recipes.models import Revision
from recipes.sentences import renamed, sentence
from sources import ranges, sequences


class Conflict(Refused):
    """A save against a head that has moved on in the meantime."""

    def __init__(self, head: Revision) -> None:
        by = head.author.shown if head.author else "somebody"
        super().__init__(
            409,
            "conflict",
            f"{by} saved revision {head.number} in the meantime: {head.sentence}",
            where="recipe",
            remedy="take that revision and lose your change, or save yours on top of it",
        )


def first_revision(shot: Shot, author: int | None, recipe: Recipe | None = None) -> Revision:
    """Give a new shot its first recipe."""
    revision = Revision.objects.create(
        shot=shot, number=1, recipe=(recipe or Recipe()).as_json(), author_id=author, sentence="Shot started"
    )
    shot.head = revision
    shot.save(update_fields=["head"])
    return revision


def _locked(shot: Shot, expected: int) -> Shot:
    """The shot, locked, if its head is the expected revision. Raises Conflict."""
    # The shot's row alone: rows of revisions and people locked along with it led to deadlocks.
    locked = Shot.objects.select_for_update().get(pk=shot.pk)
    assert locked.head is not None
    if locked.head.number != expected:
        raise Conflict(locked.head)
    return locked


def _shown(shot: Shot, revision: Revision) -> Revision:
    """Show another revision; what names items that have another name there goes with it."""
    assert shot.head is not None
    follow_renames(shot.pk, renamed(shot.head.recipe, revision.recipe))
    moved = shot.head.recipe.get("sources") != revision.recipe.get("sources")
    shot.head = revision
    shot.save(update_fields=["head"])
    if moved:
        ranges.follow(shot.pk)
    tell(shot.pk, REVISION)
    return revision


@transaction.atomic
def save(shot: Shot, author: int, parent: int, recipe: Recipe, restores: int | None = None) -> Revision:
    """A new revision upon `parent`. Raises Conflict where the head is another one.

    `restores` is the earlier revision whose recipe it is said to be; where it is so, the history says so too.
    """
    locked = _locked(shot, parent)
    assert locked.head is not None
    data = recipe.as_json()
    if restores is None:
        # An earlier revision reads the frames that it read.
        data = sequences.complete_versions(shot.pk, data, locked.head.recipe)
    if data == locked.head.recipe:
        return locked.head
    last = Revision.objects.filter(shot=locked).aggregate(last=Max("number"))["last"] or 0
    revision = Revision.objects.create(
        shot=locked,
        number=last + 1,
        parent=locked.head,
        recipe=data,
        author_id=author,
        sentence=_restored(locked, restores, data) or sentence(locked.head.recipe, data),
    )
    return _shown(locked, revision)


def _restored(shot: Shot, number: int | None, data: dict[str, Any]) -> str:
    earlier = shot.revisions.filter(number=number).first() if number is not None else None
    if earlier is None or earlier.recipe != data:
        return ""
    name = f", {earlier.name}" if earlier.name else ""
    return f"Revision {number}{name} restored"


@transaction.atomic
def undo(shot: Shot, head: int) -> Revision:
    """Move the head to its parent. Raises Conflict, or Refused at the first revision."""
    locked = _locked(shot, head)
    assert locked.head is not None
    if locked.head.parent is None:
        raise Refused(409, "no_more", "there is nothing to undo", where="history", remedy="this is the first revision")
    return _shown(locked, locked.head.parent)


@transaction.atomic
def redo(shot: Shot, head: int) -> Revision:
    """Move the head to the newest revision made from it. Raises Conflict, or Refused where there is none."""
    locked = _locked(shot, head)
    assert locked.head is not None
    child = locked.head.children.order_by("-number").first()
    if child is None:
        raise Refused(409, "no_more", "there is nothing to redo", where="history", remedy="this is the last revision")
    return _shown(locked, child)
