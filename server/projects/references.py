"""What names the items of a shot's recipe outside of it, and goes along where an item gets another name.

Each app says here what of its own does; `FREE` in the tests names every other field that could, with the reason why it
does not.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from projects.models import Shot
from projects.news import tell

Names = Mapping[str, str]
"""New names of items by their old ones."""


@dataclass(frozen=True)
class Reference:
    """A field that names items: `follow` brings those of a shot up to new names, and says whether there were any."""

    field: str
    follow: Callable[[int, Names], bool]
    news: str = ""


_REFERENCES: list[Reference] = []


def refers(field: str, news: str = "") -> Callable[[Callable[[int, Names], bool]], Callable[[int, Names], bool]]:
    """Names what brings a field (`app.Model.field`) up to new names; `news` tells those who look at it."""

    def remember(follow: Callable[[int, Names], bool]) -> Callable[[int, Names], bool]:
        _REFERENCES.append(Reference(field, follow, news))
        return follow

    return remember


def referring_fields() -> set[str]:
    return {reference.field for reference in _REFERENCES}


def follow_renames(shot: int, names: Names) -> None:
    """Everything that names items of a shot names them anew."""
    if not names:
        return
    for reference in _REFERENCES:
        if reference.follow(shot, names) and reference.news:
            tell(shot, reference.news)


@refers("projects.Shot.marks")
def _marks(shot: int, names: Names) -> bool:
    marks = Shot.objects.values_list("marks", flat=True).get(pk=shot)
    followed = [mark | {"on": names.get(mark.get("on", ""), mark.get("on", ""))} for mark in marks]
    if followed == marks:
        return False
    Shot.objects.filter(pk=shot).update(marks=followed)
    return True
