"""Routes: a shot's revisions: saved, undone, redone, listed, and the recipe as a file."""

import json
from typing import Any

from django.http import Http404, HttpRequest, HttpResponse
from django.utils.http import content_disposition_header
from ninja import Field, Router, Schema

from nexal.file_names import plain
from projects.access import get_shot, person
from projects.models import Shot
from recipes import services
from recipes.models import Revision
from recipes.rows import HistoryRow, RevisionRow, RevisionWhole, picture_of, row, whole
from recipes.sentences import sentences
from stage.requests import checked

router = Router()

PAGE, LAST = 30, 2_000_000_000
"""Revisions that are listed at once, and a number that is above all."""


class Save(Schema):
    parent: int
    recipe: dict[str, Any]
    restores: int | None = Field(None, description="The earlier revision whose recipe it is")


class Move(Schema):
    head: int


@router.get("/shots/{shot_id}/revisions", response=list[RevisionRow])
def history(request: HttpRequest, shot_id: int) -> list[dict[str, Any]]:
    """Every revision, oldest first, without recipes."""
    found = get_shot(request, shot_id)
    return [row(revision) for revision in found.revisions.select_related("parent", "author").defer("recipe")]


@router.post("/shots/{shot_id}/revisions", response=RevisionWhole)
def save(request: HttpRequest, shot_id: int, new: Save) -> RevisionWhole:
    """Save a recipe as a new revision upon the parent that it was made from; 409 where the head is another one."""
    found = get_shot(request, shot_id, write=True)
    return whole(services.save(found, person(request), new.parent, checked(new.recipe), new.restores))


class HistoryPage(Schema):
    rows: list[HistoryRow]
    more: bool = Field(description="Whether there are earlier ones")


@router.get("/shots/{shot_id}/history", response=HistoryPage)
def page(request: HttpRequest, shot_id: int, before: int = LAST) -> HistoryPage:
    """The newest revisions before a number, the newest first, and what stands for each."""
    found = get_shot(request, shot_id)
    parents = dict(found.revisions.values_list("number", "parent__number"))
    behind: set[int] = set()
    at = found.head.number if found.head else None
    while at is not None:
        behind.add(at)
        at = parents.get(at)
    rows = list(
        found.revisions.filter(number__lt=before).select_related("parent", "author").order_by("-number")[: PAGE + 1]
    )
    return HistoryPage(
        rows=[
            HistoryRow(**row(each), picture=picture_of(each.recipe), behind=each.number in behind)
            for each in rows[:PAGE]
        ],
        more=len(rows) > PAGE,
    )


def _revision(shot: Shot, number: int) -> Revision:
    revision = shot.revisions.select_related("parent", "author").filter(number=number).first()
    if revision is None:
        raise Http404
    return revision


@router.get("/shots/{shot_id}/revisions/{number}", response=RevisionWhole)
def revision(request: HttpRequest, shot_id: int, number: int) -> RevisionWhole:
    """A revision with its recipe."""
    return whole(_revision(get_shot(request, shot_id), number))


class RevisionName(Schema):
    name: str = Field(max_length=120, description="Empty takes the name away")


@router.put("/shots/{shot_id}/revisions/{number}/name", response=RevisionRow)
def name_revision(request: HttpRequest, shot_id: int, number: int, new: RevisionName) -> dict[str, Any]:
    """Give a revision a name, so that it is found again."""
    found = _revision(get_shot(request, shot_id, write=True), number)
    found.name = " ".join(new.name.split())
    found.save(update_fields=["name"])
    return row(found)


class Changes(Schema):
    changes: list[str]


@router.get("/shots/{shot_id}/revisions/{number}/changes", response=Changes)
def changes(request: HttpRequest, shot_id: int, number: int, to: int | None = None) -> Changes:
    """What changed from a revision to another, by default the one that the shot shows; a sentence for each change."""
    shot = get_shot(request, shot_id)
    assert shot.head is not None
    after = shot.head if to is None else _revision(shot, to)
    return Changes(changes=sentences(_revision(shot, number).recipe, after.recipe))


@router.post("/shots/{shot_id}/undo", response=RevisionWhole)
def undo(request: HttpRequest, shot_id: int, move: Move) -> RevisionWhole:
    return whole(services.undo(get_shot(request, shot_id, write=True), move.head))


@router.post("/shots/{shot_id}/redo", response=RevisionWhole)
def redo(request: HttpRequest, shot_id: int, move: Move) -> RevisionWhole:
    return whole(services.redo(get_shot(request, shot_id, write=True), move.head))


@router.get("/shots/{shot_id}/recipe")
def download(request: HttpRequest, shot_id: int) -> HttpResponse:
    """The shot's recipe, deliverables as its outputs, as a file for the command line."""
    found = get_shot(request, shot_id)
    assert found.head is not None
    recipe = dict(found.head.recipe)
    recipe["outputs"] = {entry.name: entry.spec for entry in found.deliverables.all()} or recipe.get("outputs", {})
    response = HttpResponse(json.dumps(recipe, indent=1), content_type="application/json")
    name = f"{plain(found.name).replace(' ', '_') or 'shot'}_r{found.head.number}.json"
    response["Content-Disposition"] = content_disposition_header(True, name) or ""
    return response
