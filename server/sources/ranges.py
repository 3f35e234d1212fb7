"""The range of a shot: that of its moving sources, until a person sets another."""

from typing import Any

from django.db.models import Max, Min

from projects.models import Shot
from sources.models import Source

STILL = (1, 1)


def moving_range(shot: int, sources: dict[str, dict[str, Any]]) -> tuple[int, int]:
    """From the least first to the greatest last frame of the moving sources of a recipe; `STILL` where none moves."""
    specs: dict[str, list[dict[str, Any]]] = {}
    for spec in sources.values():
        specs.setdefault(spec.get("files", ""), []).append(spec)
    rows = (
        Source.objects.filter(shot=shot, numbered=True, files__in=list(specs))
        .annotate(first=Min("frames__number"), last=Max("frames__number"))
        .values_list("files", "first", "last")
    )
    ranges = []
    for files, first, last in rows:
        for spec in specs[files] if first is not None else ():
            offset = spec.get("offset", 0)
            ranges.append((spec.get("first", first) + offset, spec.get("last", last) + offset))
    if not ranges:
        return STILL
    return min(first for first, _ in ranges), max(last for _, last in ranges)


def follow(shot: int) -> None:
    """Bring the range of a shot to that of its moving sources, unless a person set it."""
    row = Shot.objects.select_related("head").filter(pk=shot, own_range=False, head__isnull=False).first()
    if row is None or row.head is None:
        return
    sources = row.head.recipe.get("sources", {})
    moving = moving_range(shot, sources) if sources else STILL
    if moving != (row.first_frame, row.last_frame):
        Shot.objects.filter(pk=shot, own_range=False).update(first_frame=moving[0], last_frame=moving[1])
