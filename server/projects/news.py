"""What changed in a shot since somebody last asked: one indexed query, no request held open."""

from datetime import timedelta

from django.db import transaction
from django.utils import timezone

from projects.models import News

REVISION, SOURCES, RENDERS, NOTES = "revision", "sources", "renders", "notes"
ALL = (REVISION, SOURCES, RENDERS, NOTES)
KEPT = timedelta(hours=1)


def tell(shot: int, what: str) -> None:
    """Something changed; told once the change can be seen, so that numbers are given in that order."""
    transaction.on_commit(lambda: News.objects.create(shot_id=shot, what=what))


def since(shot: int, number: int) -> tuple[int, list[str]]:
    """The number to ask with next time, and what changed since this one; everything where that is too long ago.

    Without a number (0) nothing is told: who asks has just looked.
    """
    rows = list(News.objects.filter(shot=shot, pk__gte=number).order_by("pk").values_list("pk", "what")[:1000])
    newest = rows[-1][0] if rows else number
    if number == 0:
        last = News.objects.filter(shot=shot).order_by("-pk").values_list("pk", flat=True).first()
        return last or 0, []
    if rows and rows[0][0] != number:
        # The news asked with is gone: others may be too.
        return newest, list(ALL)
    return newest, [what for what in ALL if what in {found for pk, found in rows if pk > number}]


def clear() -> None:
    """Forget old news (a chore)."""
    News.objects.filter(created__lt=timezone.now() - KEPT).delete()
