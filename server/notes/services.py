"""Notes kept, and kept with what they are about."""

from collections.abc import Iterable

from django.db.models import Count, QuerySet

from config.errors import Refused
from notes.models import Note
from projects.models import Shot
from projects.news import NOTES
from projects.references import Names, refers

MOST_OPEN, MOST_ANSWERS = 200, 100


def open_notes(shots: Iterable[int]) -> QuerySet[Note]:
    """The notes of shots that nobody has marked done, answers aside."""
    return Note.objects.filter(shot__in=shots, about=None, done=None)


def open_counts(shots: Iterable[int]) -> dict[int, int]:
    """How many open notes each of these shots has, where it has any."""
    rows = open_notes(shots).values("shot").annotate(many=Count("pk"))
    return {row["shot"]: row["many"] for row in rows}


@refers("notes.Note.item", news=NOTES)
def _follow(shot: int, names: Names) -> bool:
    changed = [Note.objects.filter(shot=shot, item=old).update(item=new) for old, new in names.items()]
    return any(changed)


def check_room(shot: Shot) -> None:
    """Raises Refused where a shot has so many open notes that one more would be read by nobody."""
    if open_notes([shot.pk]).count() >= MOST_OPEN:
        raise Refused(
            409, "too_many", f"the shot has {MOST_OPEN} open notes", where="notes", remedy="mark those done that are"
        )


def check_answers(note: Note) -> None:
    """Raises Refused where a note has as many answers as can be."""
    if note.answers.count() >= MOST_ANSWERS:
        raise Refused(
            409, "too_many", f"the note has {MOST_ANSWERS} answers", where="answers", remedy="begin a new note"
        )
