"""What the stage's routes are asked with: an item of a recipe at a frame, and marks."""

from typing import Annotated, Any, Literal

from ninja import Field, Schema

from nexal.analysis.marks import Mark
from nexal.engine import Plan
from nexal.recipe import parse_recipe
from projects.models import Shot
from stage.services import plan

MAX_MARKS = 500


Position = Annotated[float, Field(ge=-1e6, le=1e6)]
"""Of full-resolution pixels."""
Light = Annotated[float, Field(ge=-1e6, le=1e6)]
"""A part of a colour."""


class MarkRow(Schema):
    """A dab, in full-resolution pixels of the display window."""

    side: Literal["subject", "background"]
    x: Position
    y: Position
    radius: float = Field(gt=0, le=500)


class Marks(Schema):
    marks: list[MarkRow] = Field([], max_length=MAX_MARKS)


class Ask(Schema):
    """An item of a recipe at a frame. Without a recipe, the shot's head is meant."""

    recipe: dict[str, Any] | None = None
    frame: int = 1


class StepAsk(Ask, Marks):
    item: str


def plan_of(shot: Shot, ask: Ask) -> Plan:
    recipe = ask.recipe
    if recipe is None:
        assert shot.head is not None
        recipe = shot.head.recipe
    return plan(shot, parse_recipe(recipe), ask.frame)


def sides(marks: list[MarkRow]) -> dict[str, list[Mark]]:
    """The marks of subject and of background, as the core takes them."""
    return {
        side: [Mark(mark.x, mark.y, mark.radius) for mark in marks if mark.side == side]
        for side in ("subject", "background")
    }
