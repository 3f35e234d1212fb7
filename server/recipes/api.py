"""Routes: a shot's recipe and history, and the catalogue of operations."""

import json
from datetime import datetime
from functools import cache
from typing import Any

from django.http import HttpRequest, HttpResponse
from ninja import Field, Router, Schema

from nexal.analysis.describe import operation_rows
from projects.access import get_shot, person, role_in
from recipes import services
from recipes.models import Revision
from sources.api import SourceRow, source_rows
from stage.asking import MarkRow

router = Router()


class RevisionRow(Schema):
    number: int
    parent: int | None
    author: str
    sentence: str
    name: str
    created: datetime


class RevisionWhole(RevisionRow):
    recipe: dict[str, Any]
    redo: bool = Field(description="Whether a later revision was made from this one")


class ShotWhole(Schema):
    id: int
    name: str
    project: int
    project_name: str
    role: str
    first_frame: int
    last_frame: int
    head: RevisionWhole
    sources: list[SourceRow]
    marks: list[MarkRow]


class Save(Schema):
    parent: int
    recipe: dict[str, Any]


class Move(Schema):
    head: int


class PortRow(Schema):
    name: str
    kind: str
    text: str
    required: bool
    many: bool


class OperationRow(Schema):
    op: str
    family: str
    text: str
    needs: str
    ports: list[PortRow]
    free_ports: str | None
    makes: str = Field(description="What a new step makes: plane, picture, or the same as its first port is fed with")
    settings: dict[str, dict[str, Any]]


def row(revision: Revision) -> dict[str, Any]:
    return {
        "number": revision.number,
        "parent": revision.parent.number if revision.parent else None,
        "author": (revision.author.get_full_name() or revision.author.username) if revision.author else "",
        "sentence": revision.sentence,
        "name": revision.name,
        "created": revision.created,
    }


def whole(revision: Revision) -> RevisionWhole:
    return RevisionWhole(**row(revision), recipe=revision.recipe, redo=revision.children.exists())


@cache
def _catalogue() -> list[OperationRow]:
    return [OperationRow(**entry) for entry in operation_rows()]


@router.get("/operations", response=list[OperationRow])
def operations(request: HttpRequest) -> list[OperationRow]:
    """Every operation: ports, settings as JSON Schema, text."""
    return _catalogue()


@router.get("/shots/{shot_id}", response=ShotWhole)
def shot(request: HttpRequest, shot_id: int) -> ShotWhole:
    """A shot with the recipe it shows and everything imported into it."""
    found = get_shot(request, shot_id)
    assert found.head is not None
    return ShotWhole(
        id=found.pk,
        name=found.name,
        project=found.project_id,
        project_name=found.project.name,
        role=role_in(request, found.project_id),
        first_frame=found.first_frame,
        last_frame=found.last_frame,
        head=whole(found.head),
        sources=source_rows(found),
        marks=[MarkRow(**mark) for mark in found.marks],
    )


@router.get("/shots/{shot_id}/revisions", response=list[RevisionRow])
def history(request: HttpRequest, shot_id: int) -> list[dict[str, Any]]:
    """Every revision, oldest first, without recipes."""
    found = get_shot(request, shot_id)
    return [row(revision) for revision in found.revisions.select_related("parent", "author").defer("recipe")]


@router.post("/shots/{shot_id}/revisions", response=RevisionWhole)
def save(request: HttpRequest, shot_id: int, new: Save) -> RevisionWhole:
    """Save a recipe as a new revision upon the parent that it was made from; 409 where the head is another one."""
    found = get_shot(request, shot_id, write=True)
    return whole(services.save(found, person(request), new.parent, services.checked(new.recipe)))


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
    stem = "".join(letter if letter.isalnum() else "_" for letter in found.name)
    response["Content-Disposition"] = f'attachment; filename="{stem}_r{found.head.number}.json"'
    return response
