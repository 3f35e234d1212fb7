"""A revision as the interface tells it."""

from datetime import datetime
from typing import Any

from ninja import Field, Schema

from recipes.models import Revision


class RevisionRow(Schema):
    number: int
    parent: int | None
    author: str
    by: str = Field(description="The author's user name; empty where nobody is known")
    sentence: str
    name: str
    created: datetime


class HistoryRow(RevisionRow):
    picture: str | None = Field(description="The item that stands for it")
    behind: bool = Field(description="Whether what is shown now came of it, or is it")


class RevisionWhole(RevisionRow):
    recipe: dict[str, Any]
    redo: bool = Field(description="Whether a later revision was made from this one")


def row(revision: Revision) -> dict[str, Any]:
    return {
        "number": revision.number,
        "parent": revision.parent.number if revision.parent else None,
        "author": revision.author.shown if revision.author else "",
        "by": revision.author.username if revision.author else "",
        "sentence": revision.sentence,
        "name": revision.name,
        "created": revision.created,
    }


def picture_of(recipe: dict[str, Any]) -> str | None:
    """The item that stands for a recipe: its last step, or its last source."""
    items = [step["name"] for step in recipe.get("steps", [])] or list(recipe.get("sources", {}))
    return items[-1] if items else None


def whole(revision: Revision) -> RevisionWhole:
    return RevisionWhole(**row(revision), recipe=revision.recipe, redo=revision.children.exists())
