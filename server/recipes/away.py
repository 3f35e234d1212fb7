"""What others did to a shot while somebody was away."""

from dataclasses import dataclass

from projects.models import Shot
from recipes.models import Revision, Seen


@dataclass(frozen=True)
class Away:
    """Revisions of others since the one that was seen last."""

    since: int
    revisions: int
    authors: list[str]


def look(shot: Shot, user: int) -> Away | None:
    """Somebody looks at a shot as it is now: what others have saved since they did so last, if anything."""
    newest = shot.revisions.order_by("-number").values_list("number", flat=True).first() or 0
    before = Seen.objects.filter(shot=shot, user_id=user).first()
    if before is None:
        # Two pages opened at once both find none.
        Seen.objects.get_or_create(shot=shot, user_id=user, defaults={"number": newest})
        return None
    if newest <= before.number:
        return None
    Seen.objects.filter(pk=before.pk, number__lt=newest).update(number=newest)
    others = Revision.objects.filter(shot=shot, number__gt=before.number).exclude(author_id=user)
    rows = list(others.select_related("author").defer("recipe"))
    if not rows:
        return None
    people = [row.author.shown if row.author else "somebody" for row in rows]
    return Away(since=before.number, revisions=len(rows), authors=list(dict.fromkeys(people)))
