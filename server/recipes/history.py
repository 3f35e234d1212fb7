"""Routes: a shot's revisions: saved, undone, redone, listed, and the recipe as a file."""

import json
from typing import Any

from django.http import HttpRequest, HttpResponse
from django.utils.http import content_disposition_header
from ninja import Router, Schema

from nexal.file_names import plain
from projects.access import get_shot, person
from recipes import services
from recipes.rows import RevisionRow, RevisionWhole, row, whole
from stage.requests import checked

router = Router()


class Save(Schema):
    parent: int
    recipe: dict[str, Any]


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
    return whole(services.save(found, person(request), new.parent, checked(new.recipe)))


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
