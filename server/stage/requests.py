"""What the stage's routes are asked with: an item of a recipe at a frame, and marks."""

from contextlib import suppress
from typing import Annotated, Any, Literal

from django.core.exceptions import ObjectDoesNotExist
from django.http import Http404
from ninja import Field, Schema

from config.errors import Refused
from nexal.analysis.marks import Mark
from nexal.engine import Plan
from nexal.recipe import Recipe, parse_recipe
from projects.models import Shot
from stage.services import plan

MAX_MARKS = 500
MAX_ITEMS = 500
MAX_FRAME = 10_000_000


Position = Annotated[float, Field(ge=-1e6, le=1e6)]
"""Of full-resolution pixels."""
Pixel = Annotated[int, Field(ge=-10_000_000, le=10_000_000)]
Light = Annotated[float, Field(ge=-1e6, le=1e6)]
"""A part of a colour."""


class MarkRow(Schema):
    """A dab, in full-resolution pixels of the display window."""

    side: Literal["subject", "background"]
    x: Position
    y: Position
    radius: float = Field(gt=0, le=500)
    on: str = Field("", max_length=63, description="The source that it was made on; empty where that was not kept")


class Marks(Schema):
    marks: list[MarkRow] = Field([], max_length=MAX_MARKS)


class NewMarks(Marks):
    """Marks to be kept, and which in the row of one page's they are: what is overtaken on its way is left."""

    page: str = Field("", max_length=40)
    turn: int = Field(0, ge=0)


class Ask(Schema):
    """An item of a recipe at a frame. Without a recipe, the shot's head is meant."""

    recipe: dict[str, Any] | None = None
    frame: int = Field(1, ge=-MAX_FRAME, le=MAX_FRAME)


class StepAsk(Ask, Marks):
    item: str


def plan_of(shot: Shot, ask: Ask) -> Plan:
    return plan(shot, recipe_of(shot, ask), ask.frame)


def recipe_of(shot: Shot, ask: Ask) -> Recipe:
    """The recipe that is asked about: the one that comes with the question, else that of the shot's head."""
    recipe = ask.recipe
    if recipe is None:
        # The head is fetched here: in between the shot may have gone for good.
        with suppress(ObjectDoesNotExist):
            recipe = shot.head.recipe if shot.head else None
        if recipe is None:
            raise Http404
    return checked(recipe)


def checked(recipe: Any) -> Recipe:
    """A recipe as it may be computed and stored: understood, of bounded size. Raises RecipeError and Refused."""
    parsed = parse_recipe(recipe)
    if len(parsed.items()) > MAX_ITEMS:
        raise Refused(422, "recipe", f"more than {MAX_ITEMS} items", where="recipe", remedy="split the shot")
    return parsed


def sides(marks: list[MarkRow]) -> dict[str, list[Mark]]:
    """The marks of subject and of background, as the core takes them."""
    return {
        side: [Mark(mark.x, mark.y, mark.radius) for mark in marks if mark.side == side]
        for side in ("subject", "background")
    }
