"""Tags read and set."""

from collections import defaultdict
from collections.abc import Iterable, Sequence

from django.db import transaction

from config.errors import Refused
from projects.models import Shot
from tags.models import Tag

MOST, LONGEST = 12, 40


def tags_of(shots: Iterable[int]) -> dict[int, list[str]]:
    """The tags of shots, of those that have any, in order."""
    found = defaultdict(list)
    for shot, word in Tag.objects.filter(shot__in=shots).values_list("shot", "word"):
        found[shot].append(word)
    return found


def set_tags(shot: Shot, words: Sequence[str]) -> None:
    """Give a shot these tags and no others. Raises Refused where they are too many or too long."""
    # Upper and lower case are the same word, the first one written.
    plain = {" ".join(word.split()).casefold(): " ".join(word.split()) for word in reversed(words)}
    kept = [word for word in plain.values() if word]
    if len(kept) > MOST:
        raise Refused(
            422, "tags", f"a shot has {MOST} tags at the most", where="tags", remedy="leave out what says least"
        )
    if any(len(word) > LONGEST or "," in word for word in kept):
        raise Refused(
            422, "tags", f"a tag has {LONGEST} letters at the most, and no comma", where="tags", remedy="say it shorter"
        )
    with transaction.atomic():
        Shot.objects.select_for_update().get(pk=shot.pk)
        shot.tags.all().delete()
        # What the database takes for the same word is one.
        Tag.objects.bulk_create((Tag(shot=shot, word=word) for word in kept), ignore_conflicts=True)
