"""Routes: the kept chains of a project."""

from datetime import datetime
from typing import Any

from django.db import IntegrityError, transaction
from django.http import Http404, HttpRequest, HttpResponse
from ninja import Field, Router, Schema

from chains.models import Chain
from config.errors import Refused
from config.names import plain_name
from projects.access import get_project, person
from projects.models import Project
from stage.requests import checked

router = Router()

MOST, MOST_STEPS, MOST_FIRST = 100, 60, 12


class NewChain(Schema):
    name: str = Field(min_length=1, max_length=120)
    about: str = Field("", max_length=300, description="What it is for, in a sentence")
    steps: list[dict[str, Any]] = Field(min_length=1, max_length=MOST_STEPS)
    first: list[tuple[str, str]] = Field(
        [], max_length=MOST_FIRST, description="Step and setting, of the settings that one wants to see first"
    )


class ChainName(Schema):
    name: str = Field(min_length=1, max_length=120)
    about: str = Field("", max_length=300)


class ChainRow(Schema):
    id: int
    name: str
    about: str
    steps: list[dict[str, Any]]
    first: list[tuple[str, str]]
    author: str
    changed: datetime


def _row(chain: Chain) -> ChainRow:
    return ChainRow(
        id=chain.pk,
        name=chain.name,
        about=chain.about,
        steps=chain.steps,
        first=[(step, setting) for step, setting in chain.first],
        author=chain.author.shown if chain.author else "",
        changed=chain.changed,
    )


def keep(project: Project, author: int | None, new: NewChain) -> Chain:
    """Keep steps under a name. Raises RecipeError where they are none, and Refused where the name is taken."""
    recipe = checked({"nexal": 1, "steps": new.steps})
    names = {step.name for step in recipe.steps}
    lost = [step for step, _ in new.first if step not in names]
    if lost:
        raise Refused(422, "no_step", f"there is no step '{lost[0]}'", where="first", remedy="name one of its steps")
    if project.chains.count() >= MOST:
        raise Refused(
            409, "too_many", f"a project keeps {MOST} chains at most", where="name", remedy="take some out first"
        )
    return _saved(
        Chain(
            project=project,
            author_id=author,
            name=plain_name(new.name),
            about=" ".join(new.about.split()),
            steps=recipe.as_json()["steps"],
            first=[list(pair) for pair in new.first],
        )
    )


def _saved(chain: Chain) -> Chain:
    try:
        with transaction.atomic():
            chain.save()
    except IntegrityError:
        raise Refused(
            409, "name_taken", f"there is a chain '{chain.name}' already", where="name", remedy="choose another name"
        ) from None
    return chain


def _chain(project: Project, chain_id: int) -> Chain:
    found = project.chains.select_related("author").filter(pk=chain_id).first()
    if found is None:
        raise Http404
    return found


@router.get("/projects/{project_id}/chains", response=list[ChainRow])
def chains(request: HttpRequest, project_id: int) -> list[ChainRow]:
    """The kept chains of a project, by name."""
    return [_row(each) for each in get_project(request, project_id).chains.select_related("author")]


@router.post("/projects/{project_id}/chains", response=ChainRow)
def keep_chain(request: HttpRequest, project_id: int, new: NewChain) -> ChainRow:
    """Keep steps under a name."""
    return _row(keep(get_project(request, project_id, write=True), person(request), new))


@router.put("/projects/{project_id}/chains/{chain_id}", response=ChainRow)
def name_chain(request: HttpRequest, project_id: int, chain_id: int, new: ChainName) -> ChainRow:
    """Another name, and another sentence about what it is for."""
    found = _chain(get_project(request, project_id, write=True), chain_id)
    found.name, found.about = plain_name(new.name), " ".join(new.about.split())
    return _row(_saved(found))


@router.delete("/projects/{project_id}/chains/{chain_id}", response={204: None})
def drop_chain(request: HttpRequest, project_id: int, chain_id: int) -> HttpResponse:
    """Keep a chain no longer; shots that it was put to use on stay as they are."""
    _chain(get_project(request, project_id, write=True), chain_id).delete()
    return HttpResponse(status=204)
